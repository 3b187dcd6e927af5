using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Output;
using CsCheck;

namespace CalmSentry.Tests.Core.Output;

/// <summary>Files that are turned over by the calendar: at the right moments, also where the clock is set forward and back.</summary>
public class TurnOverTests
{
    [Theory]
    [InlineData(TurnEach.Never, "2026-01-01T00:00Z", "2027-06-01T00:00Z", "Europe/Berlin", false)]
    [InlineData(TurnEach.Hour, "2026-11-01T10:59:59Z", "2026-11-01T11:00Z", "Europe/Berlin", true)]
    [InlineData(TurnEach.Hour, "2026-11-01T10:00Z", "2026-11-01T10:59:59Z", "Europe/Berlin", false)]
    [InlineData(TurnEach.Hour, "2026-10-25T00:30Z", "2026-10-25T01:30Z", "Europe/Berlin", true)] // 02:30, and 02:30 again
    [InlineData(TurnEach.Hour, "2026-11-01T10:40Z", "2026-11-01T11:10Z", "Asia/Kolkata", false)] // 16:10 and 16:40
    [InlineData(TurnEach.Day, "2026-11-01T22:59:59Z", "2026-11-01T23:00Z", "Europe/Berlin", true)]
    [InlineData(TurnEach.Day, "2026-10-24T22:00Z", "2026-10-25T22:59:59Z", "Europe/Berlin", false)] // a day of 25 hours
    [InlineData(TurnEach.Week, "2026-11-29T22:59:59Z", "2026-11-29T23:00Z", "Europe/Berlin", true)] // Sunday, then Monday
    [InlineData(TurnEach.Week, "2026-12-31T12:00Z", "2027-01-03T12:00Z", "Europe/Berlin", false)] // one week, two years
    [InlineData(TurnEach.Month, "2028-02-29T22:59:59Z", "2028-02-29T23:00Z", "Europe/Berlin", true)]
    [InlineData(TurnEach.Month, "2026-12-15T00:00Z", "2027-12-15T00:00Z", "Europe/Berlin", true)]
    public void It_has_passed(TurnEach each, string began, string now, string zone, bool passed) =>
        Assert.Equal(
            passed,
            TurnOver.HasPassed(
                each,
                DateTimeOffset.Parse(began, CultureInfo.InvariantCulture),
                DateTimeOffset.Parse(now, CultureInfo.InvariantCulture),
                TimeZoneInfo.FindSystemTimeZoneById(zone)
            )
        );

    /// <summary>Between two moments something has passed just when it has before or after any moment between them.</summary>
    [Fact]
    public void Nothing_passes_unseen_and_nothing_twice()
    {
        var zones = ((string[])["Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Beirut", "UTC"])
            .Select(TimeZoneInfo.FindSystemTimeZoneById)
            .ToList();
        Gen.Select(Gen.Int[0, 800 * 24 * 60], Gen.Int[0, 50_000].Array[2], Gen.Int[0, zones.Count - 1], Gen.Int[0, 4])
            .Sample(
                (from, steps, zone, each) =>
                {
                    var first = new DateTimeOffset(2025, 1, 1, 0, 0, 0, TimeSpan.Zero).AddMinutes(from);
                    var (second, third) = (first.AddMinutes(steps[0]), first.AddMinutes(steps[0] + steps[1]));
                    Assert.Equal(Passed(first, second) || Passed(second, third), Passed(first, third));

                    bool Passed(DateTimeOffset began, DateTimeOffset now) =>
                        TurnOver.HasPassed((TurnEach)each, began, now, zones[zone]);
                },
                iter: 5000
            );
    }
}
