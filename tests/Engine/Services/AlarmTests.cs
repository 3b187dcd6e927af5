using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Services;
using CsCheck;

namespace CalmSentry.Tests.Engine.Services;

/// <summary>A wait has an identity and a length; what the wall clock is set to is nothing to it.</summary>
public sealed class AlarmTests : IDisposable
{
    public void Dispose() => alarm.Dispose();

    private static readonly TimeSpan Second = TimeSpan.FromSeconds(1);

    private readonly Clock clock = new();
    private readonly Alarm alarm;
    private readonly List<Alarm.Wait> rung = [];

    public AlarmTests() => alarm = new(clock, rung.Add);

    [Fact]
    public void It_is_over_once_when_its_length_has_passed()
    {
        alarm.Set(clock.Now + 10 * Second, clock.Stamp);
        clock.Pass(9 * Second);
        Assert.Empty(rung);
        clock.Pass(1 * Second);
        var wait = Assert.Single(rung);
        Assert.True(alarm.IsOver(wait));
        Assert.False(alarm.IsOver(wait));
    }

    /// <summary>The letter of a wait may lie in the queue while another is armed.</summary>
    [Fact]
    public void A_late_ring_of_one_that_is_no_longer_armed_is_not_taken_for_the_next()
    {
        alarm.Set(clock.Now + 10 * Second, clock.Stamp);
        clock.Pass(10 * Second);
        var late = Assert.Single(rung);
        alarm.Set(clock.Now + 60 * Second, clock.Stamp);
        Assert.False(alarm.IsOver(late));
        clock.Pass(60 * Second);
        Assert.True(alarm.IsOver(rung[^1]));
    }

    [Theory]
    [InlineData(-3600)]
    [InlineData(3600)]
    public void Setting_the_clock_neither_delays_nor_hastens_it(int seconds)
    {
        alarm.Set(clock.Now + 4 * Second, clock.Stamp);
        clock.Now += seconds * Second;
        clock.Pass(3 * Second);
        Assert.DoesNotContain(rung, alarm.IsOver);
        clock.Pass(1 * Second);
        Assert.Contains(rung, alarm.IsOver);
    }

    [Fact]
    public void Months_are_waited_for()
    {
        var months = TimeSpan.FromDays(60);
        alarm.Set(clock.Now + months, clock.Stamp);
        for (var day = 0; day < 59; day++)
        {
            clock.Pass(TimeSpan.FromDays(1));
            Assert.DoesNotContain(rung, alarm.IsOver);
        }

        clock.Pass(TimeSpan.FromDays(1));
        Assert.Contains(rung, alarm.IsOver);
    }

    [Fact]
    public void Arming_for_the_same_moment_again_does_not_begin_the_wait_anew()
    {
        var due = clock.Now + 10 * Second;
        alarm.Set(due, clock.Stamp);
        clock.Pass(6 * Second);
        clock.Now -= 5 * Second; // what is left by the wall clock is longer now
        alarm.Set(due, clock.Stamp);
        clock.Pass(4 * Second);
        Assert.Contains(rung, alarm.IsOver);
    }

    /// <summary>Whatever is armed, passes and is set: the one armed last is over after its length, and no other ever is.</summary>
    [Fact]
    public void Only_the_one_armed_is_over_and_only_after_its_length() =>
        Gen.Select(Gen.Int[0, 3], Gen.Int[0, 200])
            .Array[1, 40]
            .Sample(steps =>
            {
                var time = new Clock();
                var heard = new List<Alarm.Wait>();
                using var one = new Alarm(time, heard.Add);
                (DateTimeOffset Due, TimeSpan At)? armed = null;
                foreach (var (kind, seconds) in steps)
                {
                    switch (kind)
                    {
                        case 0 when armed?.Due != time.Now + seconds * Second:
                            armed = (time.Now + seconds * Second, time.Passed + seconds * Second);
                            one.Set(armed.Value.Due, time.Stamp);
                            break;
                        case 1:
                            armed = null;
                            one.Set(null, time.Stamp);
                            break;
                        case 2:
                            time.Now += (seconds - 100) * 60 * Second;
                            break;
                        default:
                            time.Pass(seconds * Second);
                            break;
                    }

                    time.Pass(TimeSpan.Zero);
                    var over = heard.Any(one.IsOver);
                    Assert.Equal(armed is { } due && time.Passed >= due.At, over);
                    if (over)
                        armed = null;
                }
            });

    /// <summary>A wall clock that can be set, and one that only goes forward.</summary>
    private sealed class Clock : TimeProvider
    {
        private readonly List<Timer> timers = [];

        public DateTimeOffset Now { get; set; } = new(2026, 11, 1, 0, 0, 0, TimeSpan.Zero);

        public TimeSpan Passed { get; private set; }

        public override long TimestampFrequency => TimeSpan.TicksPerSecond;

        public void Pass(TimeSpan time)
        {
            (Now, Passed) = (Now + time, Passed + time);
            foreach (var timer in timers.ToList())
                timer.Look(Passed);
        }

        public ClockStamp Stamp => new(Now, (long)Passed.TotalMilliseconds);

        public override DateTimeOffset GetUtcNow() => Now;

        public override long GetTimestamp() => Passed.Ticks;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            var timer = new Timer(this, () => callback(state));
            timers.Add(timer);
            timer.Change(dueTime, period);
            return timer;
        }

        private sealed class Timer(Clock clock, Action rings) : ITimer
        {
            private TimeSpan? due;

            public void Look(TimeSpan passed)
            {
                if (due > passed || due is null)
                    return;
                due = null;
                rings();
            }

            public bool Change(TimeSpan dueTime, TimeSpan period)
            {
                // As the platform's own: 49 days at most.
                Assert.True(dueTime == Timeout.InfiniteTimeSpan || dueTime.TotalMilliseconds < uint.MaxValue - 1);
                due = dueTime == Timeout.InfiniteTimeSpan ? null : clock.Passed + dueTime;
                return true;
            }

            public void Dispose() => due = null;

            public ValueTask DisposeAsync()
            {
                Dispose();
                return ValueTask.CompletedTask;
            }
        }
    }
}
