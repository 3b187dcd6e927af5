using CalmSentry.Core.Watching;

namespace CalmSentry.Tests.Core.Watching;

/// <summary>A disk that will fill is said before it does, once; one that only goes up and down is not.</summary>
public class FillTrendTests
{
    private const long Gigabyte = 1_000_000_000;

    [Fact]
    public void Steady_growth_is_said_once_with_the_time_that_is_left()
    {
        var trend = new FillTrend(TimeSpan.FromDays(3));
        // A tenth of a gigabyte an hour, 5 GB left: 50 h.
        var said = Looks(trend, 40, i => (95 * Gigabyte) + (long)(i * Gigabyte / 120.0), 100 * Gigabyte);
        var (at, left) = Assert.Single(said);
        Assert.True(at >= 7, "a few looks say nothing yet");
        Assert.Equal(50 - (at / 12.0), left.TotalHours, 0.1);
    }

    [Fact]
    public void What_will_take_weeks_goes_up_and_down_or_stays_is_not_said()
    {
        Assert.Empty(Looks(new(TimeSpan.FromDays(3)), 288, i => (10 * Gigabyte) + (i * 1_000_000L), 100 * Gigabyte));
        Assert.Empty(Looks(new(TimeSpan.FromDays(3)), 288, i => (90 + (i % 7)) * Gigabyte, 100 * Gigabyte));
        Assert.Empty(Looks(new(TimeSpan.FromDays(3)), 288, _ => 99 * Gigabyte, 100 * Gigabyte));
    }

    [Fact]
    public void Room_made_and_filling_again_is_said_again()
    {
        var trend = new FillTrend(TimeSpan.FromDays(3));
        Assert.Single(Looks(trend, 100, i => (90 * Gigabyte) + (i * Gigabyte / 20), 100 * Gigabyte));
        Assert.Empty(Looks(trend, 300, _ => 20 * Gigabyte, 100 * Gigabyte, from: 100));
        Assert.Single(Looks(trend, 300, i => (20 + (i / 5)) * Gigabyte, 100 * Gigabyte, from: 400));
    }

    private static List<(int At, TimeSpan Left)> Looks(
        FillTrend trend,
        int count,
        Func<int, long> used,
        long ceiling,
        int from = 0
    ) =>
        [
            .. Enumerable
                .Range(0, count)
                .Select(i => (i, Left: trend.Look(FillTrend.Beat * (from + i), used(i), ceiling)))
                .Where(one => one.Left is not null)
                .Select(one => (one.i, one.Left!.Value)),
        ];
}
