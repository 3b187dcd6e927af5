using System.Text;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;

namespace CalmSentry.Engine.Windows;

/// <summary>
/// A window on a display that waits for an answer: by its type (Extended Window Manager Hints, _NET_WM_WINDOW_TYPE), or, where it has
/// none, because it stands before another (Inter-Client Communication Conventions, WM_TRANSIENT_FOR), which by the same hints is one.
/// </summary>
/// <param name="Window">Its number on the display.</param>
internal sealed record Dialog(uint Window, string Title)
{
    /// <summary>So many windows are looked at, from the topmost on: a program may open as many as it likes.</summary>
    private const int Most = 256;

    /// <returns>The topmost that there is; null: there is none.</returns>
    /// <exception cref="IOException">The display is gone, or speaks otherwise.</exception>
    public static async Task<Dialog?> Top(XLine line, CancellationToken cancellation)
    {
        var left = Most;
        return await TopIn(line.Root, deeper: true).ConfigureAwait(false);

        async Task<Dialog?> TopIn(uint parent, bool deeper)
        {
            foreach (var window in (await line.Within(parent, cancellation).ConfigureAwait(false)).Reverse())
            {
                if (left-- <= 0)
                    return null;
                var (isSeen, isManaged) = await line.Standing(window, cancellation).ConfigureAwait(false);
                if (!isSeen)
                    continue;
                if (isManaged && await Is(line, window, cancellation).ConfigureAwait(false))
                    return new(window, await TitleOf(line, window, cancellation).ConfigureAwait(false));
                // A window manager puts a frame around it.
                if (deeper && await TopIn(window, deeper: false).ConfigureAwait(false) is { } framed)
                    return framed;
            }

            return null;
        }
    }

    private static async Task<bool> Is(XLine line, uint window, CancellationToken cancellation)
    {
        if (await line.Property(window, "_NET_WM_WINDOW_TYPE", cancellation).ConfigureAwait(false) is not { } types)
            return await line.Property(window, "WM_TRANSIENT_FOR", cancellation).ConfigureAwait(false) is not null;
        var dialog = await line.Atom("_NET_WM_WINDOW_TYPE_DIALOG", cancellation).ConfigureAwait(false);
        // The first that is known counts; those of all toolkits are.
        return types.Length >= 4 && BitConverter.ToUInt32(types) == dialog;
    }

    private static async Task<string> TitleOf(XLine line, uint window, CancellationToken cancellation)
    {
        var title =
            await line.Property(window, "_NET_WM_NAME", cancellation).ConfigureAwait(false) is { Length: > 0 } name
                ? Encoding.UTF8.GetString(name)
            : await line.Property(window, "WM_NAME", cancellation).ConfigureAwait(false) is { } older
                ? Encoding.Latin1.GetString(older)
            : "";
        var shown = Shown.Line(title.Trim());
        return shown.Length > Question.Longest ? shown[..Question.Longest] : shown;
    }
}
