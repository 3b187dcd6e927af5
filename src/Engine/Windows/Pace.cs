using System.Diagnostics;

namespace CalmSentry.Engine.Windows;

/// <summary>
/// How fast what a display sends is read: it is the account's, and may send bells, events and empty rectangles as fast as it can write.
/// Who is read no faster waits in its own process.
/// </summary>
internal sealed class Pace
{
    /// <summary>Messages, rectangles or pieces of 64 KiB; and how many at once after a quiet while.</summary>
    private const double PerSecond = 1000,
        AtOnce = 4000;

    private static readonly TimeSpan Least = TimeSpan.FromMilliseconds(50);

    private double left = AtOnce;
    private long since = Stopwatch.GetTimestamp();

    /// <summary>Returns once that many more may be read.</summary>
    public ValueTask Spend(int units, CancellationToken cancellation)
    {
        left -= units;
        if (left >= 0)
            return default;
        var now = Stopwatch.GetTimestamp();
        left = Math.Min(AtOnce, left + (Stopwatch.GetElapsedTime(since, now).TotalSeconds * PerSecond));
        since = now;
        return left >= 0 ? default : Wait(cancellation);
    }

    private async ValueTask Wait(CancellationToken cancellation)
    {
        var owed = TimeSpan.FromSeconds(-left / PerSecond);
        await Task.Delay(owed > Least ? owed : Least, cancellation).ConfigureAwait(false);
    }
}
