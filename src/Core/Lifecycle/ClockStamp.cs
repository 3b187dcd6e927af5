namespace CalmSentry.Core.Lifecycle;

/// <summary>A moment by both clocks: people's, which may be set, and the one that only goes forward within a boot.</summary>
/// <param name="Forward">Milliseconds since some moment of this boot, the machine's sleep not counted.</param>
public readonly record struct ClockStamp(DateTimeOffset Wall, long Forward)
{
    /// <summary>What two readings of both clocks differ in anyway.</summary>
    private static readonly TimeSpan Noise = TimeSpan.FromSeconds(1);

    /// <summary>Goes on to another reading, when the clock that people read was set since.</summary>
    /// <returns>By how much it was set: what is waited for is moved by that, and so keeps its length.</returns>
    public static TimeSpan Advance(ref ClockStamp frame, ClockStamp now)
    {
        var skew = frame.SetSince(now);
        if (skew != TimeSpan.Zero)
            frame = now;
        return skew;
    }

    /// <summary>By how much people's clock was set forward since, or the machine slept; within one boot.</summary>
    public TimeSpan SetSince(ClockStamp now)
    {
        var skew = now.Wall - Wall - TimeSpan.FromMilliseconds(now.Forward - Forward);
        return skew.Duration() < Noise ? TimeSpan.Zero : skew;
    }
}
