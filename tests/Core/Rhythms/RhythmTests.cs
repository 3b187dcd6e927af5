using System.Globalization;
using CalmSentry.Core.Rhythms;
using CsCheck;

namespace CalmSentry.Tests.Core.Rhythms;

/// <summary>Moments come when a clock on the wall says so, each once, also where that clock is set forward and back.</summary>
public class RhythmTests
{
    private static readonly List<TimeZoneInfo> Zones =
    [
        .. (
            (string[])
                ["Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "America/Havana", "Asia/Kolkata", "UTC"]
        ).Select(TimeZoneInfo.FindSystemTimeZoneById),
    ];

    // The hard cases

    [Theory]
    // 02:30 is skipped on 2026-03-29 in Oslo: it comes when the clock shows 03:00. It comes twice on 2026-10-25, and counts once.
    [InlineData("daily at 02:30", "Europe/Oslo", "2026-03-28T12:00Z", "03-29T01:00 03-30T00:30 03-31T00:30")]
    [InlineData("daily at 02:30", "Europe/Oslo", "2026-10-24T12:00Z", "10-25T00:30 10-26T01:30")]
    [InlineData("daily at 02:30", "Europe/Oslo", "2026-10-25T00:30Z", "10-26T01:30")]
    [InlineData("daily at 02:15, 02:30, 02:45", "Europe/Oslo", "2026-03-28T12:00Z", "03-29T01:00 03-30T00:15")]
    [InlineData("daily at 02:30", "America/New_York", "2026-03-07T12:00Z", "03-08T07:00 03-09T06:30")]
    [InlineData("daily at 01:30", "America/New_York", "2026-10-31T12:00Z", "11-01T05:30 11-02T06:30")]
    [InlineData("daily at 02:15", "Australia/Lord_Howe", "2026-10-03T00:00Z", "10-03T15:30 10-04T15:15")] // half an hour
    [InlineData("daily at 01:45", "Australia/Lord_Howe", "2026-04-04T00:00Z", "04-04T14:45 04-05T15:15")]
    // Hours of the clock that is set back are two, and true time goes on.
    [InlineData("every 15 min", "Europe/Oslo", "2026-10-25T00:40Z", "10-25T00:45 10-25T01:00 10-25T01:15 10-25T01:30")]
    [InlineData("every 15 min from 16:30", "Europe/Oslo", "2026-11-27T15:20Z", "11-27T15:30 11-27T15:45")]
    [InlineData("every 7 h from 16:30", "UTC", "2026-11-27T16:30Z", "11-27T23:30 11-28T06:30 11-28T13:30 11-28T16:30")]
    [InlineData("every 2 h from 16:30", "Europe/Oslo", "2026-07-01T14:00Z", "07-01T14:30 07-01T16:30")]
    [InlineData("every hour from 00:10", "UTC", "2026-07-01T14:00Z", "07-01T14:10 07-01T15:10")]
    [InlineData("every 90 seconds from 2026-11-27 10:00:30", "UTC", "2020-01-01T00:00Z", "11-27T10:00:30 11-27T10:02")]
    [InlineData("every 2 weeks from 2026-03-16 06:00", "Europe/Oslo", "2026-03-01T00:00Z", "03-16T05:00 03-30T04:00")]
    // The 31st, the end of a month, and the leap day.
    [InlineData("daily at 02:07, 03:21", "Europe/Oslo", "2026-03-29T00:59:59.9999999Z", "03-29T01:00 03-29T01:21")]
    [InlineData("on 31 at 12:00", "UTC", "2026-01-31T12:00Z", "03-31T12:00 05-31T12:00 07-31T12:00")]
    [InlineData("on last at 12:00", "UTC", "2028-01-31T12:00Z", "02-29T12:00 03-31T12:00 04-30T12:00")]
    [InlineData("on 29, 30 at 00:00", "UTC", "2028-01-31T12:00Z", "02-29T00:00 03-29T00:00 03-30T00:00")]
    [InlineData(
        "every 1 month from 2028-01-31 06:00",
        "UTC",
        "2028-01-31T06:00Z",
        "02-29T06:00 03-31T06:00 04-30T06:00"
    )]
    [InlineData("every 12 months from 2028-02-29 06:00", "UTC", "2028-02-29T06:00Z", "02-28T06:00 02-28T06:00")]
    [InlineData(
        "on fri-mon at 01:00",
        "UTC",
        "2026-11-27T00:00Z",
        "11-27T01:00 11-28T01:00 11-29T01:00 11-30T01:00 12-04T01:00"
    )]
    // POSIX joins the day of the month and the day of the week by or.
    [InlineData(
        "cron 0 6 13 * 5",
        "UTC",
        "2026-11-01T00:00Z",
        "11-06T06:00 11-13T06:00 11-20T06:00 11-27T06:00 12-04T06:00"
    )]
    [InlineData("on 2nd tue at 17:00", "UTC", "2026-11-10T17:00Z", "12-08T17:00 01-12T17:00 02-09T17:00")]
    [InlineData("on last fri, 31 at 17:00", "UTC", "2026-11-27T17:00Z", "12-25T17:00 12-31T17:00 01-29T17:00")]
    [InlineData("on 5th mon at 00:00", "Europe/Oslo", "2026-11-27T17:00Z", "11-29T23:00 03-28T22:00 05-30T22:00")]
    [InlineData("once at 2026-12-24 18:00", "Europe/Oslo", "2026-11-27T17:00Z", "12-24T17:00 -")]
    [InlineData("once at 2027-03-28 02:30", "Europe/Oslo", "2026-11-27T17:00Z", "03-28T01:00 -")]
    [InlineData("cron 0 6 13 12 1", "UTC", "2026-12-06T00:00Z", "12-07T06:00 12-13T06:00 12-14T06:00")]
    [InlineData("cron 30 16 * * 1-5", "Europe/Oslo", "2026-11-27T16:00Z", "11-30T15:30 12-01T15:30")]
    [InlineData("cron 0 0 29 2 *", "UTC", "2026-11-01T00:00Z", "02-29T00:00 02-29T00:00")]
    [InlineData("cron */20 2 * * *", "Europe/Oslo", "2026-03-28T12:00Z", "03-29T01:00 03-30T00:00 03-30T00:20")]
    // Repeating intervals.
    [InlineData("R3/2026-11-30T06:00Z/PT15M", "Europe/Oslo", "2026-11-30T06:00Z", "11-30T06:15 11-30T06:30 -")]
    [InlineData("R/2026-11-30T06:00+01:00/P1M2DT3H", "UTC", "2026-01-01T00:00Z", "11-30T05:00 01-01T08:00 02-03T11:00")]
    [InlineData("R1/2026-11-30T06:00/P1Y", "Europe/Oslo", "2026-01-01T00:00Z", "11-30T05:00 -")]
    public void Moments_come_as_the_table_says(string words, string zone, string after, string moments)
    {
        var rhythm = Read(words);
        var wanted = moments.Split(' ');
        var come = rhythm
            .Following(Moment(after), TimeZoneInfo.FindSystemTimeZoneById(zone))
            .Take(wanted.Length)
            .ToList();
        Assert.Equal(
            wanted,
            wanted.Select(
                (_, i) =>
                    i >= come.Count
                        ? "-"
                        : come[i]
                            .UtcDateTime.ToString(
                                come[i].Second == 0 ? "MM-ddTHH:mm" : "MM-ddTHH:mm:ss",
                                CultureInfo.InvariantCulture
                            )
            )
        );
    }

    [Theory]
    [InlineData("daily at 03:00", 365)]
    [InlineData("daily at 02:30", 365)]
    [InlineData("every 15 min", 365 * 96)]
    [InlineData("every 15 min from 16:30", 365 * 96)]
    [InlineData("on mon-fri at 06:00", 261)]
    [InlineData("on last at 23:59", 12)]
    [InlineData("on 31 at 12:00", 7)]
    [InlineData("cron 0 6 13 * 5", 52 + 9)] // three of the thirteenths of 2026 are Fridays
    [InlineData("every 1 month from 2020-01-31 06:00", 12)]
    [InlineData("every 10 s from 2026-06-01 00:00", (214 * 8640) + 360)] // and the hour that comes twice
    public void A_year_has_exactly_so_many(string words, int count)
    {
        var oslo = Zones[0];
        var (begin, end) = (WallClock.At(new(2026, 1, 1), oslo), WallClock.At(new(2027, 1, 1), oslo));
        Assert.Equal(count, Read(words).Following(begin.AddTicks(-1), oslo).TakeWhile(at => at < end).Count());
    }

    // The laws

    private static readonly Gen<string> Words = Gen.OneOf(
        Gen.Select(Gen.Int[10, 86_000], Gen.Int[0, 1439])
            .Select((seconds, begins) => $"every {seconds} s from {begins / 60:00}:{begins % 60:00}"),
        Gen.Select(Gen.Int[10, 40], Gen.Int[0, 5], Gen.Int[0, 400])
            .Select(
                (number, unit, day) =>
                    $"every {number} {((string[])["s", "min", "h", "days", "weeks", "months"])[unit]} from {new DateTime(2025, 12, 31, 2, 30, 0).AddDays(day):yyyy-MM-dd HH:mm}"
            ),
        Gen.Int[0, 40 * 365 * 1440]
            .Select(minute => $"once at {new DateTime(2000, 1, 1).AddMinutes(minute):yyyy-MM-dd HH:mm}"),
        Gen.Select(Gen.Int[0, 1439].Array[1, 3], Gen.Int[0, 44].Array[0, 3])
            .Select(
                (times, days) =>
                    (days.Length == 0 ? "daily" : "on " + string.Join(", ", days.Select(Day).Distinct()))
                    + " at "
                    + string.Join(", ", times.Distinct().Select(time => $"{time / 60:00}:{time % 60:00}"))
            ),
        Gen.Select(Gen.Int[0, 59], Gen.Int[0, 3], Gen.Int[0, 31], Gen.Int[0, 12], Gen.Int[0, 7])
            .Select(
                (minute, hour, day, month, week) =>
                    $"cron {minute} {(hour == 0 ? "*" : $"{hour}")} {(day == 0 || day > 28 ? "*" : $"{day}")} {(month == 0 ? "*" : $"{month}")} {(week == 7 ? "*" : $"{week}")}"
            )
    );

    private static string Day(int number) =>
        number == 0 ? "last"
        : number <= 31 ? $"{number}"
        : (
            (string[])
                [
                    "sun",
                    "mon",
                    "tue",
                    "wed",
                    "thu",
                    "fri",
                    "sat",
                    "mon-fri",
                    "sat-sun",
                    "last fri",
                    "1st sun",
                    "2nd tue",
                    "5th wed",
                ]
        )[number - 32];

    private static readonly Gen<DateTimeOffset> Moments = Gen.Int[0, 2 * 366 * 24 * 60]
        .Select(minutes => Moment("2026-01-01T00:00Z").AddMinutes(minutes));

    [Fact]
    public void What_is_written_is_read_back_the_same() =>
        Words.Sample(
            words =>
            {
                var rhythm = Read(words);
                Assert.Equal(rhythm, Read(rhythm.ToString()));
                Assert.Equal(rhythm.ToString(), Read(rhythm.ToString()).ToString());
            },
            iter: 3000
        );

    /// <summary>The next moment is the same from wherever before it one asks, and always later.</summary>
    [Fact]
    public void Nothing_is_left_out_and_nothing_comes_twice() =>
        Gen.Select(Words, Moments, Gen.Int[0, Zones.Count - 1], Gen.Double[0, 1])
            .Sample(
                (words, moment, zone, share) =>
                {
                    var rhythm = Read(words);
                    if (rhythm.After(moment, Zones[zone]) is not { } next)
                        return;
                    Assert.True(next > moment);
                    Assert.Equal(next, rhythm.After(moment + ((next - moment) * share * 0.999), Zones[zone]));
                    Assert.Equal(next, rhythm.After(next.AddTicks(-1), Zones[zone]));
                },
                iter: 3000
            );

    /// <summary>A time of the wall's clock is the first moment at which it shows that time or a later one.</summary>
    [Fact]
    public void The_clock_on_the_wall_is_read_as_somebody_would_who_watches_it() =>
        Gen.Select(Gen.Int[0, Zones.Count - 1], Gen.Int[0, 2 * 366 * 96])
            .Sample(
                (zone, quarter) =>
                {
                    var wall = new DateTime(2026, 1, 1).AddMinutes(15 * quarter);
                    var watched = new DateTimeOffset(wall, TimeSpan.Zero).AddHours(-15);
                    while (WallClock.Of(watched, Zones[zone]) < wall)
                        watched = watched.AddMinutes(15);
                    Assert.Equal(watched, WallClock.At(wall, Zones[zone]));
                },
                iter: 3000
            );

    /// <summary>Against somebody who looks at the clock each minute, and at each field.</summary>
    [Fact]
    public void A_crontab_is_read_as_POSIX_has_it() =>
        Gen.Select(
                Gen.Int[0, 59],
                Gen.Int[-1, 23],
                Gen.Select(Gen.Int[-1, 31], Gen.Int[-1, 6]),
                Gen.Int[0, 40 * 24 * 60]
            )
            .Sample(
                (minute, hour, days, from) =>
                {
                    var (day, week) = (days.Item1 == 0 ? -1 : days.Item1, days.Item2);
                    var moment = Moment("2026-03-01T00:00Z").AddMinutes(from);
                    var next = Read($"cron {minute} {Field(hour)} {Field(day)} * {Field(week)}")
                        .After(moment, Zones[0]);
                    var watched = moment.AddMinutes(1);
                    var skipped = false;
                    for (var before = WallClock.Of(moment, Zones[0]); ; watched = watched.AddMinutes(1))
                    {
                        var now = WallClock.Of(watched, Zones[0]);
                        // What was skipped between two looks counts; what was seen before does not.
                        for (var shown = before.AddMinutes(1); shown <= now; shown = shown.AddMinutes(1))
                            skipped |= Fits(shown);
                        if (skipped)
                            break;
                        before = now > before ? now : before;
                    }

                    Assert.Equal(watched, next);

                    bool Fits(DateTime at) =>
                        at.Minute == minute
                        && (hour < 0 || at.Hour == hour)
                        && (day < 0 && week < 0 || day >= 0 && at.Day == day || week >= 0 && (int)at.DayOfWeek == week);
                },
                iter: 300
            );

    /// <summary>Days that are left out, against all moments and whoever strikes those of these days out.</summary>
    [Fact]
    public void Days_that_are_left_out_are_struck_out_and_no_others() =>
        Gen.Select(Words, Moments, Gen.Int[0, Zones.Count - 1], Gen.Int[0, 9].Array[1, 5])
            .Sample(
                (words, moment, zone, days) =>
                {
                    var (rhythm, by) = (Read(words), Zones[zone]);
                    var first = DateOnly.FromDateTime(WallClock.Of(moment, by));
                    var except = new Excepted([.. days.Select(first.AddDays)], null);
                    var until = moment.AddDays(12);
                    var left = new Excepting(rhythm, except)
                        .Following(moment, by)
                        .TakeWhile(at => at < until)
                        .Take(2000);
                    var all = rhythm
                        .Following(moment, by)
                        .TakeWhile(at => at < until)
                        .Where(at => !except.Has(DateOnly.FromDateTime(WallClock.Of(at, by))))
                        .Take(2000);
                    Assert.Equal(all, left);
                },
                iter: 500
            );

    [Theory]
    [InlineData("2026-12-25  2026-12-24 2026-12-25", "2026-12-24 2026-12-25")]
    [InlineData("2026-12-24 /srv/the days/2027 2", "2026-12-24 /srv/the days/2027 2")]
    [InlineData("/srv/days", "/srv/days")]
    public void Days_to_leave_out_are_read(string text, string days)
    {
        Assert.True(Excepted.TryRead(text, out var read));
        Assert.Equal(days, read!.ToString());
    }

    [Theory]
    [InlineData("", "days such as")]
    [InlineData("24.12.2026", "in place of '24.12.2026'")]
    [InlineData("2026-12-24 2026-02-30", "in place of '2026-02-30'")]
    [InlineData("days.txt", "or an absolute path")]
    public void Days_to_leave_out_that_are_none_are_named(string text, string said)
    {
        Assert.False(Excepted.TryRead(text, out _));
        Assert.Contains(said, Excepted.AllowedFor(text), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("\uFEFF# harbour\r\n2026-12-24 Christmas Eve\r\n\r\n2026-12-25,x\n", 2, null)]
    [InlineData("2026-12-24\n  \n25.12.2026\n2026-02-30", 1, "its line 3 begins with no day")]
    [InlineData("", 0, null)]
    public void A_file_of_days_is_read_line_by_line(string text, int days, string? wrong)
    {
        Assert.Equal(days, Excepted.OfLines(text, out var said).Count);
        Assert.Equal(wrong is null, said is null);
        Assert.StartsWith(wrong ?? "", said ?? "", StringComparison.Ordinal);
    }

    private static string Field(int value) => value < 0 ? "*" : $"{value}";

    // What is wrong

    [Theory]
    [InlineData("every 2 s")]
    [InlineData("every 0 min")]
    [InlineData("every 15 moons")]
    [InlineData("every 2 weeks")]
    [InlineData("every 2 weeks from 06:00")]
    [InlineData("every 15 min from 24:00")]
    [InlineData("every 15 min from 2026-02-30 06:00")]
    [InlineData("daily at")]
    [InlineData("daily at 1:00")]
    [InlineData("daily at 01:00, 01:00")]
    [InlineData("on 32 at 01:00")]
    [InlineData("on someday at 01:00")]
    [InlineData("cron 0 0 * *")]
    [InlineData("cron 60 0 * * *")]
    [InlineData("cron 0 0 30 2 *")]
    [InlineData("cron @reboot")]
    [InlineData("on 6th tue at 01:00")]
    [InlineData("on last at")]
    [InlineData("once at 2026-02-30 06:00")]
    [InlineData("once at 06:00")]
    [InlineData("cron 0 0 L * *")]
    [InlineData("R0/2026-11-30T06:00Z/PT15M")]
    [InlineData("R/2026-11-30T06:00Z/PT2S")]
    [InlineData("R/2026-11-30T06:00Z/P")]
    [InlineData("R/2026-11-30T06:00+15:00/P1D")]
    [InlineData("")]
    public void What_is_none_is_refused(string words) => Assert.False(RhythmWords.TryRead(words, out _));

    [Theory]
    [InlineData("daily at 25:00", "there is no 25:00")]
    [InlineData("daily at 1:00", "there is no 1:00")]
    [InlineData("on mon, someday at 01:00", "there is no someday")]
    [InlineData("on 2th tue at 01:00", "there is no 2th tue")]
    [InlineData("daily at", "days, 'at' and times")]
    [InlineData("daily at 01:00, 01:00", "each time and each day once")]
    [InlineData("every 2 s", "3 s or more")]
    [InlineData("every 15 moons", "a number and s, min, h")]
    [InlineData("every 2 weeks", "every 2 weeks from 2026-11-30 06:00")]
    [InlineData("every 2 weeks from 06:00", "every 2 weeks from 2026-11-30 06:00")]
    [InlineData("once at 2026-02-30 06:00", "a day that there is")]
    [InlineData("cron 0 0 * *", "there are 4")]
    [InlineData("cron 60 0 * * *", "MINUTE (0-59), with *, commas, - and /: '60' is none")]
    [InlineData("cron 0 0 * * mom", "WEEKDAY (0-7, sun-sat), with *, commas, - and /: 'mom' is none")]
    [InlineData("cron 0 0 30 2 *", "this one never comes")]
    [InlineData("whenever", RhythmWords.Allowed)]
    public void What_is_wrong_is_named_by_its_word(string words, string said)
    {
        Assert.False(RhythmWords.TryRead(words, out _));
        Assert.Contains(said, RhythmWords.AllowedFor(words), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("On Mon-FRI at 16:30", "on mon-fri at 16:30")]
    [InlineData("CRON 0 6 * * MON-FRI", "cron 0 6 * * mon-fri")]
    [InlineData("cron @daily", "cron 0 0 * * *")]
    [InlineData("@Weekly", "cron 0 0 * * 0")]
    [InlineData("on last fri, 2nd tue at 17:00", "on 2nd tue, last fri at 17:00")]
    public void What_people_write_is_read(string words, string rhythm) => Assert.Equal(rhythm, Read(words).ToString());

    private static Rhythm Read(string words)
    {
        Assert.True(RhythmWords.TryRead(words, out var rhythm), words);
        return rhythm!;
    }

    private static DateTimeOffset Moment(string text) =>
        DateTimeOffset.Parse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal);
}
