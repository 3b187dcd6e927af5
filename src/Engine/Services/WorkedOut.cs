namespace CalmSentry.Engine.Services;

/// <summary>
/// Worked out of what changes now and then, and kept until it changes again. What is worked out while it changes is not kept: whoever asks after
/// <see cref="Changed"/> is never given what was before.
/// </summary>
internal sealed class WorkedOut<T>(Func<T> work)
    where T : class
{
    private sealed record Kept(long Of, T Value);

    private volatile Kept? kept;
    private long changes;

    public T Value
    {
        get
        {
            var of = Interlocked.Read(ref changes);
            if (kept is { } known && known.Of == of)
                return known.Value;
            var value = work();
            kept = new(of, value);
            return value;
        }
    }

    /// <summary>Called after each change of what it is worked out of.</summary>
    public void Changed() => Interlocked.Increment(ref changes);
}
