using System.Globalization;

namespace CalmSentry.Cli.Words;

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

    /// <summary>Local time, with the date unless it is today's.</summary>
    public static string At(DateTimeOffset time)
    {
        var local = time.ToLocalTime();
        return local.ToString(
            local.Date == DateTimeOffset.Now.Date ? "HH:mm:ss" : "yyyy-MM-dd HH:mm:ss",
            CultureInfo.InvariantCulture
        );
    }
}
