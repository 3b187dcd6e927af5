using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Rhythms;

namespace CalmSentry.Core.Output;

/// <summary>When a file of output is turned over by the calendar.</summary>
public static class TurnOver
{
    /// <summary>
    /// Whether what began at one moment is of an hour, day, week (ISO 8601, from Monday on) or month before that of another, by
    /// the clock of a zone. An hour that comes twice when clocks are set back is two.
    /// </summary>
    public static bool HasPassed(TurnEach each, DateTimeOffset began, DateTimeOffset now, TimeZoneInfo zone) =>
        Period(each, WallClock.In(began, zone)) != Period(each, WallClock.In(now, zone));

    private static (int, int, TimeSpan) Period(TurnEach each, DateTimeOffset local) =>
        each switch
        {
            TurnEach.Hour => (local.Year, (local.DayOfYear * 24) + local.Hour, local.Offset),
            TurnEach.Day => (local.Year, local.DayOfYear, default),
            TurnEach.Week => (ISOWeek.GetYear(local.Date), ISOWeek.GetWeekOfYear(local.Date), default),
            TurnEach.Month => (local.Year, local.Month, default),
            _ => default,
        };
}
