using System.Net.Sockets;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Windows;

namespace CalmSentry.Inspection.Rehearsals;

/// <summary>What a rehearsed program shows on its display: the last picture that shows anything, and the dialogs it opened.</summary>
/// <param name="opened">Hears the title of each dialog as it is opened.</param>
internal sealed class WindowSigns(Display display, Func<byte[]> key, Action<string> opened)
{
    private const int MostDialogs = 20;

    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(200);

    private readonly List<(uint Window, string Title)> dialogs = [];

    /// <summary>A PNG; null: nothing was seen.</summary>
    public byte[]? Picture { get; private set; }

    public IReadOnlyList<string> Dialogs
    {
        get
        {
            lock (dialogs)
                return [.. dialogs.Select(one => one.Title)];
        }
    }

    private readonly TaskCompletionSource over = new(TaskCreationOptions.RunContinuationsAsynchronously);
    private Task looks = Task.CompletedTask;

    public void Begin() => looks = Look();

    /// <summary>Completes when nothing is looked at any more.</summary>
    public Task End()
    {
        over.TrySetResult();
        return looks;
    }

    private async Task Look()
    {
        using var gone = new CancellationTokenSource();
        var both = Task.WhenAll(Quietly(Keep, gone.Token), Quietly(Ask, gone.Token));
        await Task.WhenAny(both, over.Task).ConfigureAwait(false);
        await gone.CancelAsync().ConfigureAwait(false);
        await both.ConfigureAwait(false);
    }

    /// <summary>What cannot be seen of a display is no part of the report: that it is gone shows by itself.</summary>
    private static async Task Quietly(Func<CancellationToken, Task> look, CancellationToken over)
    {
        try
        {
            await look(over).ConfigureAwait(false);
        }
        catch (Exception error) when (error is IOException or SocketException or OperationCanceledException) { }
    }

    private async Task Keep(CancellationToken over)
    {
        await using var line = await Engine.Windows.Picture.Open(display.Connect(), over).ConfigureAwait(false);
        UInt128? before = null;
        while (true)
        {
            if (await line.Take(before, over).ConfigureAwait(false) is { } taken)
            {
                before = taken.Sum;
                if (!taken.IsPlain)
                    Picture = taken.Png;
            }

            await Task.Delay(Beat, over).ConfigureAwait(false);
            await line.Changed(over).ConfigureAwait(false);
        }
    }

    private async Task Ask(CancellationToken over)
    {
        await using var line = await XLine.Open(display.ConnectAsProgram(), key(), over).ConfigureAwait(false);
        while (true)
        {
            if (await Dialog.Top(line, over).ConfigureAwait(false) is { } top)
                Note(top);
            await line.Changed(over).ConfigureAwait(false);
            await Task.Delay(Beat, over).ConfigureAwait(false);
        }
    }

    private void Note(Dialog dialog)
    {
        lock (dialogs)
        {
            if (dialogs.Count == MostDialogs || dialogs.Any(one => one.Window == dialog.Window))
                return;
            dialogs.Add((dialog.Window, dialog.Title));
        }

        opened(dialog.Title);
    }
}
