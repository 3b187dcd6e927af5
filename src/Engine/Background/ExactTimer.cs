using System.Diagnostics;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Background;

/// <summary>
/// A timer that is late by about a tenth of a millisecond, where the runtime's own go by a clock that the kernel puts forward every
/// four (clock_gettime(2), CLOCK_MONOTONIC_COARSE). It has a thread of its own, which sleeps while nothing is due: finely at last, and
/// before that so that it can be woken, in whole milliseconds.
/// </summary>
internal sealed class ExactTimer : ITimer
{
    private static readonly TimeSpan Fine = TimeSpan.FromMilliseconds(2),
        Early = TimeSpan.FromMilliseconds(1),
        Longest = TimeSpan.FromHours(1);

    private const int Stack = 256 << 10;

    private readonly Lock gate = new();
    private readonly AutoResetEvent changed = new(false);
    private readonly Action come;
    private TimeSpan? due;
    private bool isOver;

    /// <param name="come">What is done when its time has come: shortly, for the next time waits for it.</param>
    public ExactTimer(Action come)
    {
        this.come = come;
        new Thread(Wait, Stack) { IsBackground = true, Name = "calm-moments" }.Start();
    }

    private static TimeSpan Forward => Stopwatch.GetElapsedTime(0);

    /// <param name="dueTime">Infinite: not until it is set anew.</param>
    /// <param name="period">Infinite: it comes once.</param>
    public bool Change(TimeSpan dueTime, TimeSpan period)
    {
        ArgumentOutOfRangeException.ThrowIfNotEqual(period, Timeout.InfiniteTimeSpan);
        lock (gate)
        {
            if (isOver)
                return false;
            due = dueTime == Timeout.InfiniteTimeSpan ? null : Forward + dueTime;
        }

        changed.Set();
        return true;
    }

    public void Dispose()
    {
        lock (gate)
            isOver = true;
        changed.Set();
    }

    public ValueTask DisposeAsync()
    {
        Dispose();
        return ValueTask.CompletedTask;
    }

    private void Wait()
    {
        while (true)
        {
            TimeSpan left;
            lock (gate)
            {
                if (isOver)
                    return;
                left = due is { } at ? at - Forward : Longest;
                if (left <= TimeSpan.Zero)
                    due = null;
            }

            if (left <= TimeSpan.Zero)
                come();
            else if (left <= Fine)
                FineSleep.For(left); // another time that is set meanwhile waits for no longer than this
            else
                changed.WaitOne(left < Longest ? left - Early : Longest);
        }
    }
}
