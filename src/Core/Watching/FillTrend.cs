namespace CalmSentry.Core.Watching;

/// <summary>
/// When something of a given size will be full at the rate of the last day. It is said once, and again only after it was no more to be
/// expected.
/// </summary>
/// <param name="soon">It is said when no more than that is left.</param>
public sealed class FillTrend(TimeSpan soon)
{
    /// <summary>How often it is looked at, and over how long.</summary>
    public static readonly TimeSpan Beat = TimeSpan.FromMinutes(5);

    private static readonly TimeSpan Window = TimeSpan.FromDays(1);

    private readonly List<(DateTimeOffset At, double Value)> samples = [];
    private bool said;

    /// <param name="forward">By the clock that only goes forward.</param>
    /// <param name="used">Bytes.</param>
    /// <param name="ceiling">Bytes at which it is full for whoever asks.</param>
    /// <returns>How long until it is full, where that is to be said now; null: nothing is to be said.</returns>
    public TimeSpan? Look(TimeSpan forward, long used, long ceiling)
    {
        var now = DateTimeOffset.UnixEpoch + forward;
        if (samples.Count > 0 && now - samples[^1].At < Beat)
            return null;
        samples.Add((now, used));
        samples.RemoveAll(one => now - one.At > Window);
        var left = GrowthTrend.Of(samples)?.Until(used, ceiling);
        if (left is null || left > soon * 2)
            said = false;
        if (said || left is null || left > soon)
            return null;
        said = true;
        return left;
    }
}
