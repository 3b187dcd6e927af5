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
        Task ring;
        lock (gate)
            ring = rung.Task;
        using (var enough = CancellationTokenSource.CreateLinkedTokenSource(over))
        {
            await Task.WhenAny(ring, clocks.Delay(longest, enough.Token));
            await enough.CancelAsync();
        }

        over.ThrowIfCancellationRequested();
        lock (gate)
            if (rung.Task.IsCompleted)
                rung = new(clocks.Promises);
    }
}
