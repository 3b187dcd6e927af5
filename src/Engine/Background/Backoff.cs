namespace CalmSentry.Engine.Background;

/// <summary>Pauses between tries, each longer than the one before, up to a longest.</summary>
/// <param name="grow">By which factor.</param>
internal sealed class Backoff(TimeSpan first, TimeSpan longest, double grow = 2)
{
    private TimeSpan? last;

    /// <summary>The pause before the next try.</summary>
    public TimeSpan Next()
    {
        var pause =
            last is not { } before ? first
            : before * grow < longest ? before * grow
            : longest;
        last = pause;
        return pause;
    }

    /// <summary>It came true: the next pause is the first again.</summary>
    public void Reset() => last = null;
}
