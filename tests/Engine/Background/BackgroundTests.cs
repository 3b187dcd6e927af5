using CalmSentry.Engine.Background;
using CsCheck;

namespace CalmSentry.Tests.Engine.Background;

/// <summary>Pauses, loops and journals: what goes on beside everything else.</summary>
public class BackgroundTests
{
    [Fact]
    public void Pauses_grow_to_the_longest_and_begin_anew_when_it_came_true() =>
        Gen.Select(Gen.Int[1, 1000], Gen.Int[1, 50], Gen.Double[1, 4], Gen.Int[1, 40])
            .Sample(
                (first, times, grow, tries) =>
                {
                    var (shortest, longest) = (
                        TimeSpan.FromMilliseconds(first),
                        TimeSpan.FromMilliseconds((long)first * times)
                    );
                    var pauses = new Backoff(shortest, longest, grow);
                    var all = Enumerable.Range(0, tries).Select(_ => pauses.Next()).ToList();
                    Assert.Equal(shortest, all[0]);
                    Assert.All(all, pause => Assert.InRange(pause, shortest, longest));
                    Assert.Equal(all.Order(), all);
                    pauses.Reset();
                    Assert.Equal(shortest, pauses.Next());
                }
            );

    [Fact]
    public async Task A_round_that_fails_ends_no_loop_and_its_end_is_no_failure()
    {
        var (rounds, failures) = (0, new List<Exception>());
        var third = new TaskCompletionSource();
        var loop = new BackgroundLoop(
            async over =>
            {
                rounds++;
                if (rounds < 3)
                    throw new InvalidOperationException($"round {rounds}");
                third.TrySetResult();
                await Task.Delay(Timeout.InfiniteTimeSpan, over);
            },
            unexpected =>
            {
                failures.Add(unexpected);
                return TimeSpan.Zero;
            },
            new(TimeProvider.System)
        );
        await third.Task;
        await loop.DisposeAsync();
        Assert.Equal(["round 1", "round 2"], failures.Select(failure => failure.Message));
        Assert.Equal(3, rounds);
    }

    /// <summary>It stays on record until it has come to its end, and is taken up where the record says it is.</summary>
    [Theory]
    [InlineData(0, true)]
    [InlineData(1, true)]
    [InlineData(Journaled.MostTries - 1, true)]
    [InlineData(Journaled.MostTries, false)]
    [InlineData(100, false)]
    public async Task What_fails_on_the_way_stays_on_record_until_its_end(int failing, bool ends)
    {
        var (tries, failures, pauses, onRecord) = (new List<bool>(), 0, new List<TimeSpan>(), true);
        await Journaled.ToItsEnd(
            resumed: false,
            resumed =>
            {
                Assert.True(onRecord);
                tries.Add(resumed);
                return tries.Count <= failing
                    ? Task.FromException(new InvalidOperationException("nobody had expected that"))
                    : Task.CompletedTask;
            },
            () => onRecord = false,
            _ => failures++,
            pause =>
            {
                pauses.Add(pause);
                return Task.CompletedTask;
            }
        );
        Assert.Equal(ends, !onRecord);
        Assert.Equal(Math.Min(failing, Journaled.MostTries), failures);
        // Of all but the first it is not known whether the last step was done.
        Assert.Equal(Enumerable.Range(0, tries.Count).Select(i => i > 0), tries);
        Assert.Equal(pauses.Order(), pauses);
    }
}
