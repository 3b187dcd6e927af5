using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>
/// Times between people and this host: all are in the host's zone, whatever zone a client is set to, for what is said in
/// sentences is in it, too.
/// </summary>
internal static class HostTime
{
    public static string Zone => TimeZoneInfo.Local.Id;

    /// <summary>
    /// A time as people give it, in the host's zone unless it says another; a time of day alone is its latest, a length is
    /// so long ago.
    /// </summary>
    /// <param name="parameter">Its name, for the refusal.</param>
    /// <param name="text">Null: none was given.</param>
    /// <param name="now">What time it is.</param>
    public static (DateTimeOffset? Time, IResult? Problem) Read(string parameter, string? text, DateTimeOffset now)
    {
        if (text is null)
            return (null, null);
        if (Duration.TryRead(text, out var ago))
            return (now - ago, null);
        if (
            !DateTimeOffset.TryParse(
                text,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeLocal | DateTimeStyles.AllowWhiteSpaces,
                out var time
            )
        )
            return (
                null,
                Problems.Of(
                    400,
                    ProblemCode.NoTime,
                    "Not a time",
                    $"{parameter}: found '{text}'; allowed: 03:12, '2026-11-20 03:12:30' (this host's time), ISO 8601 "
                        + "such as 2026-11-20T03:12:30+01:00, or how long ago, such as 10min."
                )
            );
        return (IsTimeOfDay(text) && time > now ? time.AddDays(-1) : time, null);
    }

    /// <summary>From when and until when; null: from the beginning, and to the end.</summary>
    public static (DateTimeOffset? From, DateTimeOffset? To, IResult? Problem) Between(
        string? since,
        string? until,
        DateTimeOffset now
    )
    {
        var (from, problem) = Read("since", since, now);
        var (to, wrong) = Read("until", until, now);
        return (
            from,
            to,
            problem
                ?? wrong
                ?? (
                    from > to
                        ? Problems.Of(
                            400,
                            ProblemCode.NoTime,
                            "Not a stretch of time",
                            $"since is {WallClock.Of(from.Value, TimeZoneInfo.Local):yyyy-MM-dd HH:mm:ss}, and until "
                                + $"{WallClock.Of(to.Value, TimeZoneInfo.Local):yyyy-MM-dd HH:mm:ss}, which is before that."
                        )
                        : null
                )
        );
    }

    /// <summary>The same of a time to come: a time of day alone is its next, a length is so long from now.</summary>
    /// <param name="longest">It is within that time.</param>
    public static (DateTimeOffset? Time, IResult? Problem) ReadAhead(
        string parameter,
        string? text,
        DateTimeOffset now,
        TimeSpan longest
    )
    {
        var (time, problem) = Duration.TryRead(text ?? "", out var length)
            ? (now + length, null)
            : Read(parameter, text, now);
        if (time is not { } at)
            return (null, problem);
        if (at <= now && IsTimeOfDay(text!))
            at = at.AddDays(1);
        return at > now && at - now <= longest
            ? (at, null)
            : (
                null,
                Problems.Of(
                    400,
                    ProblemCode.NoTime,
                    "Not a time to come",
                    $"{parameter}: {WallClock.Of(at, TimeZoneInfo.Local):yyyy-MM-dd HH:mm} is {(at <= now ? "past" : $"more than {Length.Of(longest)} ahead")}; allowed: "
                        + $"a time within {Length.Of(longest)} from now, or how long from now, such as 2h."
                )
            );
    }

    private static bool IsTimeOfDay(string text) =>
        text.Trim().Length <= 8 && text.Contains(':', StringComparison.Ordinal);
}
