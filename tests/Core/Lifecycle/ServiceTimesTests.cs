using CalmSentry.Core.Lifecycle;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>Time is neither lost nor counted twice.</summary>
public class ServiceTimesTests
{
    private static readonly DateTimeOffset Start = DateTimeOffset.UnixEpoch;

    private static readonly Gen<List<(DateTimeOffset At, ServiceTime Time)>> Turns = Gen.Select(
            Gen.Int[1, 5000],
            Gen.Enum<ServiceTime>()
        )
        .List[1, 40]
        .Select(steps =>
        {
            var at = Start;
            return steps.Select(step => (at += TimeSpan.FromSeconds(step.Item1), step.Item2)).ToList();
        });

    [Fact]
    public void Every_second_of_a_window_since_the_record_began_counts_once() =>
        Gen.Select(Turns, Gen.Int[0, 100_000], Gen.Int[0, 100_000])
            .Sample(
                (turns, from, length) =>
                {
                    var (begin, end) = (Start.AddSeconds(from), Start.AddSeconds(from + length));
                    var of = ServiceTimes.Over(turns, begin, end);
                    var known = end - (turns[0].At > begin ? turns[0].At : begin);
                    Assert.Equal(known > TimeSpan.Zero ? known : TimeSpan.Zero, of.Up + of.Planned + of.Fallen);
                    Assert.True(of.Share is null or (>= 0 and <= 1));
                }
            );

    [Fact]
    public void Two_windows_side_by_side_count_as_one() =>
        Gen.Select(Turns, Gen.Int[0, 50_000], Gen.Int[0, 50_000])
            .Sample(
                (turns, first, second) =>
                {
                    var (middle, end) = (Start.AddSeconds(first), Start.AddSeconds(first + second));
                    var (left, right, whole) = (
                        ServiceTimes.Over(turns, Start, middle),
                        ServiceTimes.Over(turns, middle, end),
                        ServiceTimes.Over(turns, Start, end)
                    );
                    Assert.Equal(
                        (whole.Up, whole.Planned, whole.Fallen),
                        (left.Up + right.Up, left.Planned + right.Planned, left.Fallen + right.Fallen)
                    );
                }
            );
}
