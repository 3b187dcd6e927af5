namespace CalmSentry.Engine.Background;

/// <summary>Wakes the one who waits for something to do. Rung while nobody waits, it is heard by whoever waits next.</summary>
internal sealed class Bell(Clocks clocks)
{
    private readonly Lock gate = new();
    private TaskCompletionSource rung = new(clocks.Promises);

    public void Ring()
    {
        lock (gate)
            rung.TrySetResult();
    }

    /// <summary>Completes when it was rung since the last time, or a length is over.</summary>
    public async Task Heard(TimeSpan longest, CancellationToken over)
    {
        TaskCompletionSource ring;
        lock (gate)
            ring = rung;
        await using (over.UnsafeRegister(_ => ring.TrySetCanceled(over), null))
        await using (clocks.Time.CreateTimer(_ => Ring(), null, longest, Timeout.InfiniteTimeSpan))
            await ring.Task;
        lock (gate)
            rung = new(clocks.Promises);
    }
}
