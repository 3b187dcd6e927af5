using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Engine.Background;

/// <summary>
/// Both clocks of the host, waiting by them, and what goes on by itself: the one rule of waiting there is. A simulation brings
/// its own time and its own scheduler.
/// </summary>
/// <param name="time">People's clock, and the one that only goes forward.</param>
internal sealed class Clocks(TimeProvider time)
{
    public TimeProvider Time => time;

    /// <summary>Where what the sentry does by itself goes on.</summary>
    public TaskScheduler Tasks { get; init; } = TaskScheduler.Default;

    /// <summary>Whoever waits for a service goes on by itself, never within its actor.</summary>
    public TaskCreationOptions Promises { get; init; } = TaskCreationOptions.RunContinuationsAsynchronously;

    /// <summary>Makes a timer, not set yet, for what a person has planned for a moment.</summary>
    public Func<Action, ITimer> Moments { get; init; } =
        come => time.CreateTimer(_ => come(), null, Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);

    public DateTimeOffset Now => time.GetUtcNow();

    /// <summary>Since some moment of this boot, by the clock that only goes forward: what lengths are measured by.</summary>
    public TimeSpan Forward => time.GetElapsedTime(0, time.GetTimestamp());

    /// <summary>Now, by both clocks.</summary>
    public ClockStamp Stamp => new(Now, (long)Forward.TotalMilliseconds);

    /// <summary>Begins something that goes on by itself.</summary>
    public Task Run(Func<Task> work) =>
        Task.Factory.StartNew(work, CancellationToken.None, TaskCreationOptions.DenyChildAttach, Tasks).Unwrap();

    /// <summary>Waits for a length by the clock that only goes forward.</summary>
    public Task Delay(TimeSpan length) => Task.Delay(length, time);

    /// <summary>As <see cref="Delay(TimeSpan)"/>, until nobody waits any more.</summary>
    public async Task Delay(TimeSpan length, CancellationToken gone)
    {
        var over = new TaskCompletionSource(Promises);
        await using var cancelled = gone.UnsafeRegister(_ => over.TrySetCanceled(gone), null);
        await using var timer = time.CreateTimer(_ => over.TrySetResult(), null, length, Timeout.InfiniteTimeSpan);
        await over.Task;
    }
}
