using System.Diagnostics.CodeAnalysis;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;
using CalmSentry.Core.Text;
using Cronos;

namespace CalmSentry.Core.Rhythms;

/// <summary>Rhythms as people write them, in both directions.</summary>
public static partial class RhythmWords
{
    public const string Allowed =
        "'every 15 min', 'every 15 min from 16:30', 'every 2 weeks from 2026-11-30 06:00', 'daily at 01:00, 13:00', "
        + "'on mon-fri at 16:30', 'on 1, 15, last at 23:00', 'on last fri at 17:00', 'once at 2026-12-24 18:00', "
        + "'cron MINUTE HOUR DAY MONTH WEEKDAY' (POSIX, crontab), or 'R/2026-11-30T06:00/P1M' (ISO 8601)";

    public static readonly TimeSpan Shortest = TimeSpan.FromSeconds(3);

    private const string Wall = "yyyy-MM-dd HH:mm",
        WallExact = "yyyy-MM-dd HH:mm:ss";

    private static readonly string[] WeekDays = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"],
        Counted = ["1st", "2nd", "3rd", "4th", "5th", "last"],
        CronFields = ["MINUTE (0-59)", "HOUR (0-23)", "DAY (1-31)", "MONTH (1-12, jan-dec)", "WEEKDAY (0-7, sun-sat)"];

    public static bool TryRead(string text, [MaybeNullWhen(false)] out Rhythm rhythm)
    {
        text = Even(text);
        rhythm =
            ReadEvery(text)
            ?? ReadTimes(text)
            ?? (Rhythm?)ReadOnce(text)
            ?? (Rhythm?)ReadCron(text)
            ?? (text.StartsWith('R') ? ReadRepeating(text) : null);
        return rhythm is not null;
    }

    /// <summary>Names are taken in any case, and blanks as many as there are.</summary>
    private static string Even(string text)
    {
        text = Blanks().Replace(text.Trim(), " ");
        return text.StartsWith('R') ? text : text.ToLowerInvariant();
    }

    /// <summary>What is allowed in the place of the word that is wrong; of what is like nothing, all there is.</summary>
    public static string AllowedFor(string text)
    {
        text = Even(text);
        var word = text.Split(' ')[0];
        if (word is not ("every" or "daily" or "on" or "once" or "cron"))
            return Allowed;
        if (word != "cron" && Clocks().Matches(text).FirstOrDefault(time => ReadTime(time.Value) is null) is { } wrong)
            return $"times from 00:00 to 23:59, each with two digits: there is no {wrong.Value}";
        return word switch
        {
            "every" => EveryFor(text),
            "once" => "a day that there is, and a time: once at 2026-12-24 18:00",
            "cron" => CronFor(text),
            _ => TimesFor(text),
        };
    }

    // Once

    private static Once? ReadOnce(string text) =>
        text.StartsWith("once at ", StringComparison.Ordinal) && ReadWall(text["once at ".Length..]) is { } at
            ? new(at)
            : null;

    internal static string Of(Once once) => $"once at {Of(once.At)}";

    // Every so often

    private static Rhythm? ReadEvery(string text)
    {
        if (EveryForm().Match(text) is not { Success: true } found)
            return null;
        var number = found.Groups["number"] is { Success: true, Value: var digits }
            ? int.Parse(digits, NumberStyles.None, CultureInfo.InvariantCulture)
            : 1;
        var (months, days, time) = found.Groups["unit"].Value.TrimEnd('s') switch
        {
            "month" => (number, 0, TimeSpan.Zero),
            "week" => (0, 7 * number, TimeSpan.Zero),
            "day" or "d" => (0, number, TimeSpan.Zero),
            "hour" or "h" => (0, 0, TimeSpan.FromHours(number)),
            "minute" or "min" => (0, 0, TimeSpan.FromMinutes(number)),
            _ => (0, 0, TimeSpan.FromSeconds(number)),
        };
        if (
            number == 0
            || months > 1200
            || days > 3650
            || time.TotalDays > 3650
            || (months + days == 0 && time < Shortest)
        )
            return null;
        var from = found.Groups["from"].Value;
        if (from.Length == 0 || ReadTime(from) is not null)
        {
            var begins = from.Length == 0 ? null : ReadTime(from);
            return months + days == 0 && time < TimeSpan.FromDays(1) ? new Every(time, begins)
                : months == 0 && time + TimeSpan.FromDays(days) == TimeSpan.FromDays(1)
                    ? new AtTimes([begins ?? TimeOnly.MinValue], Days.All)
                : null; // from which day on?
        }

        return ReadWall(from) is { } first ? new Repeating(first, null, months, days, time) : null;
    }

    private static string EveryFor(string text) =>
        EveryForm().Match(text) is not { Success: true } found
            ? "a number and s, min, h, days, weeks or months, and from when on: every 15 min from 16:30, every 2 weeks from 2026-11-30 06:00"
        : found.Groups["unit"].Value[0] is 's' ? "3 s or more"
        : found.Groups["unit"].Value[0] is 'd' or 'w'
        || found.Groups["unit"].Value.StartsWith("mo", StringComparison.Ordinal)
            ? $"the day it begins with behind it: {text.Split(" from ")[0]} from 2026-11-30 06:00"
        : "10 s to ten years, from a time or from a day that there is and a time";

    internal static string Of(Every every) =>
        $"every {Duration.Write(every.Length)}{(every.Begins is { } begins ? $" from {Of(begins)}" : "")}";

    // At times of the day

    private static AtTimes? ReadTimes(string text)
    {
        if (TimesForm().Match(text) is not { Success: true } found)
            return null;
        var times = found.Groups["times"].Value.Split(',').Select(time => ReadTime(time.Trim())).ToList();
        if (times.Any(time => time is null) || times.Distinct().Count() < times.Count)
            return null;
        return ReadDays(found.Groups["days"].Value) is { } days
            ? new AtTimes([.. times.Select(time => time!.Value).Order()], days)
            : null;
    }

    private static string TimesFor(string text) =>
        TimesForm().Match(text) is not { Success: true } found ? "days, 'at' and times: on mon-fri at 16:30, 18:00"
        : found
            .Groups["days"]
            .Value.Split(',', StringSplitOptions.TrimEntries)
            .FirstOrDefault(day => day != "" && ReadDays(day) is null)
            is { } wrong
            ? $"days such as mon, mon-fri, 1 to 31, last, 2nd tue, last fri: there is no {wrong}"
        : "each time and each day once, with a comma between";

    private static Days? ReadDays(string text)
    {
        byte week = 0;
        uint month = 0;
        ulong counted = 0;
        if (text.Length == 0)
            return Days.All;
        foreach (var part in text.Split(',', StringSplitOptions.TrimEntries))
        {
            var ends = part.Split('-');
            var (first, last) = (Array.IndexOf(WeekDays, ends[0]), Array.IndexOf(WeekDays, ends[^1]));
            if (ends.Length <= 2 && first >= 0 && last >= 0)
                for (var day = first; ; day = (day + 1) % 7) // sat-mon goes over the end of the week
                {
                    week |= (byte)(1 << day);
                    if (day == last)
                        break;
                }
            else if (
                part.Split(' ') is [var which, var name]
                && (Array.IndexOf(Counted, which), Array.IndexOf(WeekDays, name))
                    is (>= 0 and var count, >= 0 and var day)
            )
                counted |= Days.Bit(count, (DayOfWeek)day);
            else if (part == "last")
                month |= 1;
            else if (
                int.TryParse(part, NumberStyles.None, CultureInfo.InvariantCulture, out var date)
                && date is >= 1 and <= 31
            )
                month |= 1u << date;
            else
                return null;
        }

        return new Days(week, month, counted);
    }

    internal static string Of(AtTimes at)
    {
        var days = new List<string>();
        for (var day = 1; day <= 7; day++)
        {
            if ((at.Days.Week >> (day % 7) & 1) == 0)
                continue;
            var first = day;
            while (day < 7 && (at.Days.Week >> ((day + 1) % 7) & 1) != 0)
                day++;
            days.Add(first == day ? WeekDays[day % 7] : $"{WeekDays[first % 7]}-{WeekDays[day % 7]}");
        }

        for (var date = 1; date <= 31; date++)
            if ((at.Days.Month >> date & 1) != 0)
                days.Add(date.ToString(CultureInfo.InvariantCulture));
        if ((at.Days.Month & 1) != 0)
            days.Add("last");
        for (var which = 0; which < Counted.Length; which++)
        for (var day = 1; day <= 7; day++)
            if ((at.Days.Counted & Days.Bit(which, (DayOfWeek)(day % 7))) != 0)
                days.Add($"{Counted[which]} {WeekDays[day % 7]}");
        var times = string.Join(", ", at.Times.Select(Of));
        return days.Count == 0 ? $"daily at {times}" : $"on {string.Join(", ", days)} at {times}";
    }

    // Crontabs

    private static Cron? ReadCron(string text)
    {
        text = text switch
        {
            "cron @hourly" or "@hourly" => "cron 0 * * * *",
            "cron @daily" or "@daily" or "cron @midnight" or "@midnight" => "cron 0 0 * * *",
            "cron @weekly" or "@weekly" => "cron 0 0 * * 0",
            "cron @monthly" or "@monthly" => "cron 0 0 1 * *",
            "cron @yearly" or "@yearly" or "cron @annually" or "@annually" => "cron 0 0 1 1 *",
            _ => text,
        };
        if (!CronForm().IsMatch(text))
            return null;
        try
        {
            var cron = new Cron(text["cron ".Length..]);
            // One that never comes, such as the 30th of February, is a mistake.
            return cron.After(DateTimeOffset.UnixEpoch, TimeZoneInfo.Utc) is null ? null : cron;
        }
        catch (CronFormatException)
        {
            return null;
        }
    }

    private static string CronFor(string text)
    {
        var fields = text.Split(' ')[1..];
        if (fields.Length != CronFields.Length)
            return $"five fields, {string.Join(", ", CronFields)}: there {(fields.Length == 1 ? "is 1" : $"are {fields.Length}")}";
        for (var i = 0; i < fields.Length; i++)
            if (
                ReadCron("cron " + string.Join(' ', Enumerable.Range(0, 5).Select(at => at == i ? fields[i] : "*")))
                is null
            )
                return $"{CronFields[i]}, with *, commas, - and /: '{fields[i]}' is none";
        return "a day that there is: this one never comes";
    }

    // Repeating intervals

    private static Repeating? ReadRepeating(string text)
    {
        if (RepeatingForm().Match(text) is not { Success: true } found)
            return null;
        var (months, days, time) = (
            Number("months") + (12 * Number("years")),
            Number("days") + (7 * Number("weeks")),
            0L
        );
        time = Number("seconds") + (60L * Number("minutes")) + (3600L * Number("hours"));
        var first = found.Groups["first"].Value;
        var offset = found.Groups["offset"].Value switch
        {
            "" => (TimeSpan?)null,
            "Z" => TimeSpan.Zero,
            var other => TimeSpan.TryParseExact(
                other[1..],
                @"hh\:mm",
                CultureInfo.InvariantCulture,
                other[0] == '-' ? TimeSpanStyles.AssumeNegative : TimeSpanStyles.None,
                out var parsed
            )
                ? parsed
                : TimeSpan.MaxValue,
        };
        var count = found.Groups["count"].Value is { Length: > 0 } times
            ? int.Parse(times, NumberStyles.None, CultureInfo.InvariantCulture)
            : (int?)null;
        if (
            count == 0
            || offset is { } given && given.Duration() > TimeSpan.FromHours(14)
            || months > 1200
            || days > 3650
            || time > 3650 * 86400L
            || (months + days == 0 && time < Shortest.TotalSeconds)
            || ReadWall(first.Replace('T', ' ')) is not { } begins
        )
            return null;
        return new(begins, offset, months, days, TimeSpan.FromSeconds(time), count);

        int Number(string group) =>
            found.Groups[group] is { Success: true } one
                ? int.Parse(one.Value, NumberStyles.None, CultureInfo.InvariantCulture)
                : 0;
    }

    internal static string Of(Repeating one)
    {
        if (one is { Offset: null, Count: null })
        {
            if (one is { Days: 0, Time.Ticks: 0 })
                return $"every {one.Months} month{(one.Months == 1 ? "" : "s")} from {Of(one.First)}";
            if (one is { Months: 0, Time.Ticks: 0 })
                return one.Days % 7 == 0
                    ? $"every {one.Days / 7} week{(one.Days == 7 ? "" : "s")} from {Of(one.First)}"
                    : $"every {one.Days} day{(one.Days == 1 ? "" : "s")} from {Of(one.First)}";
            if (one is { Months: 0, Days: 0 } && one.Time < TimeSpan.FromDays(1))
                return $"every {Duration.Write(one.Time)} from {Of(one.First)}";
        }

        var text = new StringBuilder("R").Append(one.Count?.ToString(CultureInfo.InvariantCulture));
        text.Append('/').Append(Of(one.First).Replace(' ', 'T'));
        if (one.Offset is { } offset)
            text.Append(
                offset == TimeSpan.Zero
                    ? "Z"
                    : (offset < TimeSpan.Zero ? "-" : "+") + offset.ToString(@"hh\:mm", CultureInfo.InvariantCulture)
            );
        text.Append("/P");
        Part(one.Months, 'M');
        Part(one.Days, 'D');
        if (one.Time > TimeSpan.Zero)
        {
            text.Append('T');
            Part((int)one.Time.TotalHours, 'H');
            Part(one.Time.Minutes, 'M');
            Part(one.Time.Seconds, 'S');
        }

        return text.ToString();

        void Part(int number, char unit)
        {
            if (number > 0)
                text.Append(CultureInfo.InvariantCulture, $"{number}{unit}");
        }
    }

    // Times

    private static TimeOnly? ReadTime(string text) =>
        TimeOnly.TryParseExact(
            text,
            ["HH:mm", "HH:mm:ss"],
            CultureInfo.InvariantCulture,
            DateTimeStyles.None,
            out var time
        )
            ? time
            : null;

    private static string Of(TimeOnly time) =>
        time.ToString(time.Second == 0 ? "HH:mm" : "HH:mm:ss", CultureInfo.InvariantCulture);

    private static DateTime? ReadWall(string text) =>
        DateTime.TryParseExact(text, [Wall, WallExact], CultureInfo.InvariantCulture, DateTimeStyles.None, out var wall)
        && wall.Year is >= 1970 and < 3000
            ? wall
            : null;

    private static string Of(DateTime wall) =>
        wall.ToString(wall.Second == 0 ? Wall : WallExact, CultureInfo.InvariantCulture);

    [GeneratedRegex(@"\s+")]
    private static partial Regex Blanks();

    [GeneratedRegex(@"\b[0-9]{1,4}:[0-9:]+")]
    private static partial Regex Clocks();

    [GeneratedRegex(
        @"^every ((?<number>[0-9]{1,6}) ?)?(?<unit>s|seconds?|min|minutes?|h|hours?|d|days?|weeks?|months?)( from (?<from>[0-9: -]+))?$",
        RegexOptions.CultureInvariant
    )]
    private static partial Regex EveryForm();

    [GeneratedRegex(@"^(daily|on (?<days>[a-z0-9, -]+)) at (?<times>[0-9:, ]+)$", RegexOptions.CultureInvariant)]
    private static partial Regex TimesForm();

    /// <summary>What POSIX has, steps, and names of months and days; nothing else that the library would take.</summary>
    [GeneratedRegex(
        @"^cron( (?=[^ ]{1,200}( |$))([0-9*,/-]|sun|mon|tue|wed|thu|fri|sat|jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)+){5}$",
        RegexOptions.CultureInvariant
    )]
    private static partial Regex CronForm();

    [GeneratedRegex(
        @"^R(?<count>[0-9]{1,6})?/(?<first>[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2})?)(?<offset>Z|[+-][0-9]{2}:[0-9]{2})?/P(?=.)((?<years>[0-9]{1,4})Y)?((?<months>[0-9]{1,5})M)?((?<weeks>[0-9]{1,4})W)?((?<days>[0-9]{1,5})D)?(T(?=.)((?<hours>[0-9]{1,6})H)?((?<minutes>[0-9]{1,7})M)?((?<seconds>[0-9]{1,8})S)?)?$",
        RegexOptions.CultureInvariant
    )]
    private static partial Regex RepeatingForm();
}
