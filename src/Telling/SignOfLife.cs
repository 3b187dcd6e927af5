using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;

namespace CalmSentry.Telling;

/// <summary>An address outside that is asked at a beat, so that somebody there notices when the sentry is silent.</summary>
internal sealed record SignalSettings
{
    public string Ask { get; init; } = "";

    public TimeSpan Every { get; init; } = TimeSpan.FromMinutes(5);

    public static Shape<SignalSettings> Keys { get; } =
        new(
            KeyOf<SignalSettings>.Value(
                "ask",
                Forms.Url,
                signal => signal.Ask,
                (signal, url) => signal with { Ask = url },
                "The address that is asked (HTTP GET)."
            ) with
            {
                Example = "https://watch.skerry.example/beat/quay",
            },
            KeyOf<SignalSettings>.Value(
                "every",
                Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                signal => signal.Every,
                (signal, length) => signal with { Every = length },
                "How often."
            ) with
            {
                Default = Duration.Write(new SignalSettings().Every),
            }
        );
}

/// <summary>Asks that address at its beat. A beat that did not arrive is on record, once until one does again.</summary>
internal sealed class SignOfLife(SignalSettings settings, Record logbook, Clocks clocks) : IAsyncDisposable
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15);

    private BackgroundLoop? loop;
    private int missed;

    /// <summary>Why the last beat did not arrive, as a sentence; null: it did.</summary>
    public string? Trouble { get; private set; }

    public SignOfLife Begin()
    {
        loop = new(
            Go,
            unexpected =>
            {
                logbook.Failed("its sign of life", unexpected);
                return settings.Every;
            },
            clocks
        );
        return this;
    }

    private async Task Go(CancellationToken over)
    {
        var due = clocks.Time.GetTimestamp();
        if (await Ask(over) is { } why)
            Missed(why);
        else
            Arrived();
        if (settings.Every - clocks.Time.GetElapsedTime(due) is var left && left > TimeSpan.Zero)
            await clocks.Delay(left, over);
    }

    /// <returns>Why it did not arrive, as a clause; null: it did.</returns>
    private async Task<string?> Ask(CancellationToken over)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(over);
        limit.CancelAfter(Patience);
        try
        {
            using var request = new HttpRequestMessage(HttpMethod.Get, settings.Ask);
            request.Headers.TryAddWithoutValidation("User-Agent", "calm-sentry");
            using var answer = await Outside.Client.SendAsync(
                request,
                HttpCompletionOption.ResponseHeadersRead,
                limit.Token
            );
            return answer.IsSuccessStatusCode
                ? null
                : string.Create(CultureInfo.InvariantCulture, $"it answered {(int)answer.StatusCode}");
        }
        catch (OperationCanceledException) when (!over.IsCancellationRequested)
        {
            return $"it did not answer within {Duration.Write(Patience)}";
        }
        catch (HttpRequestException error)
        {
            return (error.InnerException?.Message ?? error.Message).TrimEnd('.');
        }
    }

    private void Missed(string why)
    {
        missed++;
        Trouble =
            $"The sign of life does not get to {settings.Ask}: {why}. It is sent again every {Duration.Write(settings.Every)}.";
        if (missed == 1)
            logbook.Note(new SignalMissedEntry(settings.Ask, why));
    }

    private void Arrived()
    {
        if (missed > 0)
            logbook.Note(new SignalArrivesEntry(settings.Ask, missed));
        (missed, Trouble) = (0, null);
    }

    public async ValueTask DisposeAsync()
    {
        if (loop is not null)
            await loop.DisposeAsync();
    }
}
