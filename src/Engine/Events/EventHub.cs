using System.Collections.Concurrent;
using System.Globalization;
using System.Runtime.CompilerServices;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using System.Threading.Channels;
using CalmSentry.Contract.Api;

namespace CalmSentry.Engine.Events;

/// <summary>One event as it goes out: its name and its data as JSON, written once for all who listen.</summary>
internal readonly record struct LiveEvent(string Name, string Data);

/// <summary>
/// Tells every listener what changes, as it changes. A listener that does not keep up is cut off and comes back for the
/// whole.
/// </summary>
internal sealed class EventHub
{
    private const int Backlog = 4096;

    /// <summary>Streams at the same time: each costs a queue.</summary>
    public const int Most = 128;

    /// <summary>There is no room for another stream.</summary>
    public bool Full => listeners.Count >= Most;

    /// <summary>Who listens, and to which service alone; "" to all.</summary>
    private readonly ConcurrentDictionary<Channel<LiveEvent>, string> listeners = [];
    private volatile bool closed;

    public void Changed(ServiceView view) => Send("service", view, ApiJson.Plain.ServiceView, view.Name);

    public void Removed(string name) => Send("removed", name, ApiJson.Plain.String, name);

    /// <summary>There is a new report of a boot or a drill.</summary>
    public void Began(string kind) => Send("began", kind, ApiJson.Plain.String, null);

    /// <summary>Something became of an alert: its number.</summary>
    public void Alerted(long number) =>
        Send("alert", number.ToString(CultureInfo.InvariantCulture), ApiJson.Plain.String, null);

    public void Logged(LogEntry entry) => Send("logged", entry, ApiJson.Plain.LogEntry, entry.Service);

    /// <param name="first">How things are as the stream begins; what changes from then on follows it.</param>
    /// <param name="service">Of which service alone to hear; null: of all, and of the sentry.</param>
    public async IAsyncEnumerable<LiveEvent> Listen(
        Func<LiveEvent> first,
        string? service,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        var channel = Channel.CreateBounded<LiveEvent>(new BoundedChannelOptions(Backlog) { SingleReader = true });
        listeners[channel] = service ?? "";
        if (closed)
            channel.Writer.TryComplete();
        try
        {
            yield return first();
            while (true)
            {
                var more = await More(channel.Reader, cancellation);
                if (more is null)
                {
                    yield return new("beat", "{}");
                    continue;
                }

                if (more is false)
                    yield break;
                while (channel.Reader.TryRead(out var next))
                    yield return next;
            }
        }
        finally
        {
            listeners.TryRemove(channel, out _);
        }
    }

    /// <summary>Ends every stream: the sentry is about to end.</summary>
    public void Close()
    {
        closed = true;
        foreach (var channel in listeners.Keys)
            channel.Writer.TryComplete();
    }

    /// <summary>Whoever listens notices by it within seconds that a line is dead, although nothing said so.</summary>
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(5);

    /// <summary>Null when nothing came for a while: then a beat shows that the line still stands.</summary>
    private static async Task<bool?> More(ChannelReader<LiveEvent> reader, CancellationToken cancellation)
    {
        using var beat = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        beat.CancelAfter(Beat);
        try
        {
            return await reader.WaitToReadAsync(beat.Token);
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            return null;
        }
    }

    /// <param name="service">Whom it is about; null: the sentry.</param>
    private void Send<T>(string name, T value, JsonTypeInfo<T> type, string? service)
    {
        LiveEvent? live = null;
        foreach (var (channel, only) in listeners)
        {
            if (only.Length > 0 && only != service)
                continue;
            live ??= new LiveEvent(name, JsonSerializer.Serialize(value, type));
            if (!channel.Writer.TryWrite(live.Value))
                channel.Writer.TryComplete();
        }
    }
}
