using System.Globalization;
using CalmSentry.Core.Rhythms;

namespace CalmSentry.Cli.Formatting;

/// <summary>Lengths of time and points in time, as people read them.</summary>
internal static class Lengths
{
    /// <summary>The two largest units: <c>3 d 4 h</c>, <c>12 min 5 s</c>, <c>0.8 s</c>.</summary>
    public static string Of(TimeSpan length) =>
        length switch
        {
            { TotalDays: >= 1 } => $"{(int)length.TotalDays} d {length.Hours} h",
            { TotalHours: >= 1 } => $"{(int)length.TotalHours} h {length.Minutes} min",
            { TotalMinutes: >= 1 } => $"{length.Minutes} min {length.Seconds} s",
            { TotalSeconds: >= 10 } => $"{length.Seconds} s",
            _ => string.Create(CultureInfo.InvariantCulture, $"{Math.Max(0, length.TotalSeconds):0.0} s"),
        };

    /// <summary>
    /// A short length, to the millisecond: <c>11 ms</c>, <c>0.52 s</c>; a longer one as <see cref="Of"/> has it.
    /// </summary>
    public static string Exactly(double ms) =>
        ms < 100 ? string.Create(CultureInfo.InvariantCulture, $"{Math.Max(0, ms):0} ms")
        : ms < 10_000 ? string.Create(CultureInfo.InvariantCulture, $"{ms / 1000:0.00} s")
        : Of(TimeSpan.FromMilliseconds(ms));

    private static TimeZoneInfo zone = TimeZoneInfo.Local;

    /// <summary>
    /// The name of the host's zone in the IANA database: what the sentry says in sentences is in it, and so is all beside.
    /// </summary>
    public static string Zone
    {
        set => zone = TimeZoneInfo.TryFindSystemTimeZoneById(value, out var known) ? known : zone;
    }

    /// <summary>The host's time, with the date unless it is today's.</summary>
    public static string At(DateTimeOffset time)
    {
        var local = WallClock.In(time, zone);
        return local.ToString(
            local.Date == WallClock.In(DateTimeOffset.UtcNow, zone).Date ? "HH:mm:ss" : WithDate,
            CultureInfo.InvariantCulture
        );
    }

    /// <summary>The host's time to the millisecond, with its date where that is not today.</summary>
    public static string Moment(DateTimeOffset time) =>
        At(time) + WallClock.In(time, zone).ToString(".fff", CultureInfo.InvariantCulture);

    /// <summary>The host's time with its date.</summary>
    public static string DayAt(DateTimeOffset time) =>
        WallClock.In(time, zone).ToString(WithDate, CultureInfo.InvariantCulture);

    private const string WithDate = "yyyy-MM-dd HH:mm:ss";
}
