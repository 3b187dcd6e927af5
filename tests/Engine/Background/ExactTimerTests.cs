using System.Diagnostics;
using CalmSentry.Engine.Background;
using CsCheck;

namespace CalmSentry.Tests.Engine.Background;

/// <summary>The timer of planned moments: never early, once for each time that is set, and always for the last one.</summary>
public class ExactTimerTests
{
    private static readonly TimeSpan Patience = TimeSpan.FromMinutes(1);

    [Fact]
    public async Task It_comes_once_and_not_before_its_time()
    {
        var came = 0;
        var next = new TaskCompletionSource();
        using var timer = new ExactTimer(() =>
        {
            Interlocked.Increment(ref came);
            next.TrySetResult();
        });
        await Gen.Double[0, 8]
            .Array[1, 5]
            .SampleAsync(
                async lengths =>
                {
                    foreach (var length in lengths.Select(TimeSpan.FromMilliseconds))
                    {
                        next = new(TaskCreationOptions.RunContinuationsAsynchronously);
                        var (before, began) = (came, Stopwatch.GetTimestamp());
                        Assert.True(timer.Change(length, Timeout.InfiniteTimeSpan));
                        await next.Task.WaitAsync(Patience);
                        Assert.True(Stopwatch.GetElapsedTime(began) >= length);
                        Assert.Equal(before + 1, came);
                    }
                },
                iter: 30,
                threads: 1
            );
    }

    /// <summary>What is set anew is what it waits for, whatever it waited for before: for long, for a moment, or for nothing.</summary>
    [Fact]
    public async Task The_last_time_that_is_set_is_the_one_that_comes()
    {
        var came = new SemaphoreSlim(0);
        using var timer = new ExactTimer(() => came.Release());
        foreach (var before in new[] { TimeSpan.FromDays(30), TimeSpan.FromHours(1), Timeout.InfiniteTimeSpan })
        {
            timer.Change(before, Timeout.InfiniteTimeSpan);
            timer.Change(TimeSpan.FromMilliseconds(1), Timeout.InfiniteTimeSpan);
            Assert.True(await came.WaitAsync(Patience));
        }

        // Whoever sets it while it is about to come, or comes, is not forgotten.
        for (var turn = 0; turn < 300; turn++)
        {
            await Task.WhenAll(
                Enumerable
                    .Range(0, 4)
                    .Select(i =>
                        Task.Run(() => timer.Change(TimeSpan.FromMicroseconds(100 * i), Timeout.InfiniteTimeSpan))
                    )
            );
            while (await came.WaitAsync(TimeSpan.Zero)) { } // of those that were set before the last
            timer.Change(TimeSpan.FromMicroseconds(50), Timeout.InfiniteTimeSpan);
            Assert.True(await came.WaitAsync(Patience));
        }
    }

    [Fact]
    public void What_is_over_is_not_set_any_more()
    {
        var timer = new ExactTimer(() => Assert.Fail("it came"));
        timer.Change(TimeSpan.FromHours(1), Timeout.InfiniteTimeSpan);
        timer.Dispose();
        Assert.False(timer.Change(TimeSpan.Zero, Timeout.InfiniteTimeSpan));
        timer.Dispose();
        Assert.Throws<ArgumentOutOfRangeException>(() => timer.Change(TimeSpan.Zero, TimeSpan.FromSeconds(1)));
    }
}
