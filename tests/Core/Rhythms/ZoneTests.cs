using System.Globalization;
using System.Runtime.InteropServices;
using System.Security.Cryptography;
using CalmSentry.Core.Rhythms;

namespace CalmSentry.Tests.Core.Rhythms;

/// <summary>
/// What clocks show in every zone of the host's time database, against the C library; and when a time of day comes, against somebody who
/// watches such a clock minute by minute. <c>tools/clock.sh</c> does the same for decades, and with the database's other form.
/// </summary>
public partial class ZoneTests
{
    private static readonly (int From, int To) Years = Environment.GetEnvironmentVariable("CALM_CLOCK_YEARS") is { } set
        ? (Year(set.Split('-')[0]), Year(set.Split('-')[1]))
        : (2026, 2027);

    private static int Year(string text) => int.Parse(text, CultureInfo.InvariantCulture);

    [LibraryImport("libc", StringMarshalling = StringMarshalling.Utf8)]
    private static partial int setenv(string name, string value, int overwrite);

    [LibraryImport("libc")]
    private static partial void tzset();

    [LibraryImport("libc")]
    private static unsafe partial nint localtime_r(long* at, byte* into);

    /// <summary>By how many seconds clocks are ahead, as the C library says (ctime(3)).</summary>
    private static unsafe long OffsetByLibrary(long at)
    {
        var tm = stackalloc byte[64]; // struct tm: nine ints, and tm_gmtoff
        Assert.NotEqual(0, localtime_r(&at, tm));
        return *(long*)(tm + 40);
    }

    /// <summary>Zones that are not the same as one before.</summary>
    private static IEnumerable<TimeZoneInfo> Zones()
    {
        var known = new HashSet<string>();
        var database = Environment.GetEnvironmentVariable("TZDIR") ?? "/usr/share/zoneinfo";
        foreach (var zone in TimeZoneInfo.GetSystemTimeZones())
            if (
                Path.Combine(database, zone.Id) is var file
                && File.Exists(file)
                && known.Add(Convert.ToHexString(SHA256.HashData(File.ReadAllBytes(file))))
            )
                yield return zone;
    }

    private static long Seconds(int year) => new DateTimeOffset(year, 1, 1, 0, 0, 0, TimeSpan.Zero).ToUnixTimeSeconds();

    private static long Offset(TimeZoneInfo zone, long at) =>
        (long)WallClock.In(DateTimeOffset.FromUnixTimeSeconds(at), zone).Offset.TotalSeconds;

    /// <summary>One at a time: the C library has one zone for the whole process.</summary>
    [Fact]
    public void Clocks_show_what_the_library_says_and_a_time_comes_when_somebody_who_watches_sees_it()
    {
        const long step = 6 * 3600;
        var (zones, changes) = (0, 0);
        foreach (var zone in Zones())
        {
            zones++;
            Assert.Equal(0, setenv("TZ", ":" + zone.Id, 1));
            tzset();
            var before = OffsetByLibrary(Seconds(Years.From));
            for (var at = Seconds(Years.From); at < Seconds(Years.To + 1); at += step)
            {
                var now = OffsetByLibrary(at);
                Assert.True(
                    now == Offset(zone, at),
                    $"{zone.Id} at {DateTimeOffset.FromUnixTimeSeconds(at):u}: {now}, {Offset(zone, at)}"
                );
                if (now != before)
                {
                    changes++;
                    LookAtChange(zone, Found(at - step, at, OffsetByLibrary));
                }

                before = now;
            }
        }

        Assert.True(zones > 300 && changes > 300, $"{zones} zones with {changes} changes are not the time database");
    }

    /// <summary>When clocks of a zone are set; what they show then is held against the library above.</summary>
    private static IEnumerable<long> ChangesOf(TimeZoneInfo zone)
    {
        const long step = 6 * 3600;
        for (var at = Seconds(Years.From); at < Seconds(Years.To + 1); at += step)
            if (Offset(zone, at) != Offset(zone, at + step))
                yield return Found(at, at + step, one => Offset(zone, one));
    }

    private static long Found(long before, long after, Func<long, long> offset)
    {
        var was = offset(before);
        while (after - before > 1)
        {
            var middle = (before + after) / 2;
            (before, after) = offset(middle) == was ? (middle, after) : (before, middle);
        }

        return after;
    }

    private static void LookAtChange(TimeZoneInfo zone, long change)
    {
        const int around = 4 * 60; // minutes
        Assert.Equal(OffsetByLibrary(change - 1), Offset(zone, change - 1));
        Assert.Equal(OffsetByLibrary(change), Offset(zone, change));
        var from = change - (change % 60) - (around * 60);
        var shown = new long[2 * around];
        for (var i = 0; i < shown.Length; i++)
            shown[i] = from + (i * 60) + OffsetByLibrary(from + (i * 60));
        // Times of the day on both sides of the change, those that are skipped among them.
        for (var wanted = shown[around] - (150 * 60); wanted < shown[around] + (60 * 60); wanted += 5 * 60)
        {
            if (wanted <= shown[0])
                continue;
            var seen = from + (Array.FindIndex(shown, one => one >= wanted) * 60);
            var wall = DateTimeOffset.FromUnixTimeSeconds(wanted).DateTime;
            var at = WallClock.At(wall, zone).ToUnixTimeSeconds();
            // Whoever looks each minute sees a change of seconds up to a minute later.
            Assert.True(seen - at is >= 0 and < 60, $"{zone.Id}, {wall:u}: {at}, and it was seen at {seen}");
        }
    }

    /// <summary>Days counted within their month, against somebody who counts them on a calendar.</summary>
    [Fact]
    public void Counted_days_come_as_somebody_counts_them_on_a_calendar()
    {
        string[] counted = ["1st", "2nd", "3rd", "4th", "5th", "last"],
            names = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];
        foreach (var (i, zone) in Zones().Index())
        {
            var (which, day) = (i % counted.Length, i / counted.Length % names.Length);
            var seen = new List<DateTimeOffset>();
            for (var month = new DateTime(Years.From, 1, 1); month.Year <= Years.To; month = month.AddMonths(1))
            {
                var those = Enumerable
                    .Range(0, DateTime.DaysInMonth(month.Year, month.Month))
                    .Select(days => month.AddDays(days))
                    .Where(date => (int)date.DayOfWeek == day)
                    .ToList();
                if (which == 5 || which < those.Count)
                    seen.Add(WallClock.At(those[which == 5 ? ^1 : which].AddMinutes(150), zone));
            }

            var (from, to) = (
                WallClock.At(new DateTime(Years.From, 1, 1), zone).AddTicks(-1),
                WallClock.At(new DateTime(Years.To + 1, 1, 1), zone)
            );
            Assert.True(RhythmWords.TryRead($"on {counted[which]} {names[day]} at 02:30", out var rhythm));
            Assert.Equal(seen, rhythm!.Following(from, zone).TakeWhile(at => at < to));
        }
    }

    /// <summary>The day of a change that is left out, with both of its neighbours there, in every zone.</summary>
    [Fact]
    public void A_day_that_is_left_out_is_left_out_whole_also_where_clocks_are_set_on_it()
    {
        Assert.True(RhythmWords.TryRead("every 20 min", out var rhythm));
        foreach (var zone in Zones())
        foreach (var change in ChangesOf(zone))
        {
            var at = DateTimeOffset.FromUnixTimeSeconds(change);
            var day = DateOnly.FromDateTime(WallClock.Of(at, zone));
            var left = new Excepting(rhythm!, new([day], null)).Following(at.AddDays(-2), zone).TakeWhile(Near);
            Assert.Equal(
                rhythm!
                    .Following(at.AddDays(-2), zone)
                    .TakeWhile(Near)
                    .Where(one => DateOnly.FromDateTime(WallClock.Of(one, zone)) != day),
                left
            );

            bool Near(DateTimeOffset moment) => moment < at.AddDays(2);
        }
    }

    [Theory]
    [InlineData("Europe/Dublin", "2027-03-27 12:00", "01:30", "2027-03-28 01:00")]
    [InlineData("Europe/London", "2027-03-27 12:00", "01:30", "2027-03-28 01:00")]
    [InlineData("Africa/Casablanca", "2026-03-21 12:00", "02:30", "2026-03-22 02:00")]
    [InlineData("America/Nuuk", "2026-03-28 12:00", "23:30", "2026-03-29 01:00")]
    public void A_time_that_is_skipped_comes_right_after_the_gap(string id, string from, string time, string due)
    {
        var zone = TimeZoneInfo.FindSystemTimeZoneById(id);
        Assert.True(RhythmWords.TryRead($"daily at {time}", out var daily));
        Assert.Equal(Utc(due), daily!.After(Utc(from), zone));

        static DateTimeOffset Utc(string text) =>
            DateTimeOffset.Parse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal);
    }

    [Theory]
    [InlineData("on , at 10:00")]
    [InlineData("on ,mon at 10:00")]
    [InlineData("on mon,,fri at 10:00")]
    public void Days_that_are_not_there_are_no_days(string text) => Assert.False(RhythmWords.TryRead(text, out _));

    [Fact]
    public void What_is_no_file_of_the_database_is_none()
    {
        var file = File.ReadAllBytes("/usr/share/zoneinfo/Europe/Oslo");
        Assert.NotNull(ZoneTable.Read(file));
        for (var length = 0; length < file.Length - 1; length += 7)
            _ = ZoneTable.Read(file.AsSpan(0, length)); // cut off anywhere: no more than nothing comes of it
        Assert.Null(ZoneTable.Read("TZif"u8));
        Assert.Null(ZoneRule.Read("CET-1CEST,M3.5.0,M10.5"));
        Assert.Null(ZoneRule.Read("CET-1CEST,M3.5.0,M10.5.0/200"));
        Assert.NotNull(ZoneRule.Read("<-02>2<-01>,M3.5.0/-1,M10.5.0/0"));
    }
}
