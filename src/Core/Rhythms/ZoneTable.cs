using System.Buffers.Binary;
using System.Runtime.CompilerServices;
using System.Text;

namespace CalmSentry.Core.Rhythms;

/// <summary>
/// What clocks in a zone show, by the host's own time database (TZif, RFC 9636), in either of its forms: with every change written out, or
/// with a rule for those to come. The framework reads the same files, and is wrong of some: where standard time is ahead of summer time,
/// and where a rule has hours below 0 or above 24.
/// </summary>
public sealed class ZoneTable
{
    private const int HeadLength = 44,
        LongestFile = 1 << 20;

    private static readonly ConditionalWeakTable<TimeZoneInfo, ZoneTable> tables = [];

    private readonly long[] changes;
    private readonly int[] offsets; // one more than changes: the first holds before all of them
    private readonly ZoneRule? rule;

    private ZoneTable(long[] changes, int[] offsets, ZoneRule? rule) =>
        (this.changes, this.offsets, this.rule) = (changes, offsets, rule);

    /// <returns>Null: the host's database does not have it, as of a zone that somebody made up.</returns>
    public static ZoneTable? Of(TimeZoneInfo zone)
    {
        var table = tables.GetValue(zone, static one => Load(one) ?? new([], [], null));
        return table.offsets.Length == 0 ? null : table;
    }

    private static ZoneTable? Load(TimeZoneInfo zone)
    {
        foreach (var file in FilesOf(zone))
            try
            {
                if (
                    new FileInfo(file) is { Exists: true, Length: < LongestFile }
                    && Read(File.ReadAllBytes(file)) is { } table
                )
                    return table;
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                // What the framework has read of it must do.
            }

        return null;
    }

    private static IEnumerable<string> FilesOf(TimeZoneInfo zone)
    {
        var database = Environment.GetEnvironmentVariable("TZDIR") is { Length: > 0 } set ? set : "/usr/share/zoneinfo";
        if (ReferenceEquals(zone, TimeZoneInfo.Local))
        {
            // tzset(3)
            if (Environment.GetEnvironmentVariable("TZ")?.TrimStart(':') is { Length: > 0 } own)
                yield return Path.Combine(database, own);
            else
                yield return "/etc/localtime";
        }

        if (
            zone.Id is "UTC" or "Local"
            || Path.IsPathRooted(zone.Id)
            || zone.Id.Contains("..", StringComparison.Ordinal)
        )
            yield break;
        yield return Path.Combine(database, zone.Id);
    }

    /// <returns>Null: it is no file of the time database.</returns>
    public static ZoneTable? Read(ReadOnlySpan<byte> file)
    {
        try
        {
            var width = 4;
            if (!file.StartsWith("TZif"u8))
                return null;
            if (file[4] >= (byte)'2')
            {
                // The first block is there for readers of long ago.
                file = file[LengthOf(file, width)..];
                width = 8;
            }

            var (ofChanges, ofKinds) = (Count(file, 32), Count(file, 36));
            var times = file.Slice(HeadLength, ofChanges * width);
            var kinds = file.Slice(HeadLength + (ofChanges * width), ofChanges);
            var facts = file.Slice(HeadLength + (ofChanges * (width + 1)), ofKinds * 6);
            var changes = new long[ofChanges];
            var offsets = new int[ofChanges + 1];
            offsets[0] = OffsetOf(facts, 0);
            for (var i = 0; i < ofChanges; i++)
            {
                changes[i] =
                    width == 8
                        ? BinaryPrimitives.ReadInt64BigEndian(times[(i * 8)..])
                        : BinaryPrimitives.ReadInt32BigEndian(times[(i * 4)..]);
                offsets[i + 1] = OffsetOf(facts, kinds[i]);
            }

            var rest = width == 8 ? Encoding.ASCII.GetString(file[LengthOf(file, width)..]).Trim('\n') : "";
            return new(changes, offsets, ZoneRule.Read(rest));
        }
        catch (ArgumentOutOfRangeException)
        {
            return null; // it was cut off
        }
        catch (IndexOutOfRangeException)
        {
            return null;
        }
    }

    private static int Count(ReadOnlySpan<byte> head, int at) => BinaryPrimitives.ReadInt32BigEndian(head[at..]);

    private static int OffsetOf(ReadOnlySpan<byte> facts, int kind) =>
        BinaryPrimitives.ReadInt32BigEndian(facts[(kind * 6)..]);

    /// <summary>Head and block, by the counts in the head.</summary>
    private static int LengthOf(ReadOnlySpan<byte> file, int width) =>
        HeadLength
        + (Count(file, 32) * (width + 1))
        + (Count(file, 36) * 6)
        + Count(file, 40)
        + (Count(file, 28) * (width + 4))
        + Count(file, 24)
        + Count(file, 20);

    /// <summary>By how much clocks are ahead of Universal Time at a moment.</summary>
    /// <param name="at">Seconds since 1970.</param>
    public TimeSpan OffsetAt(long at)
    {
        if (rule is not null && (changes.Length == 0 || at >= changes[^1]))
            return TimeSpan.FromSeconds(rule.OffsetAt(at));
        var found = Array.BinarySearch(changes, at);
        return TimeSpan.FromSeconds(offsets[found < 0 ? ~found : found + 1]);
    }

    /// <summary>When clocks are set between two moments, in their order, by the table and by the rule.</summary>
    public IEnumerable<long> Changes(long from, long to)
    {
        foreach (var change in changes)
            if (change >= from && change <= to)
                yield return change;
        if (rule is null)
            yield break;
        var after = changes.Length == 0 ? long.MinValue : changes[^1];
        foreach (var change in rule.Changes(from, to))
            if (change > after && change >= from && change <= to)
                yield return change;
    }
}

/// <summary>The rule by which clocks are set in times to come (the TZ variable of POSIX.1, with hours from -167 to 167).</summary>
public sealed class ZoneRule
{
    private readonly int standard; // seconds that clocks are ahead
    private readonly int summer;
    private readonly Moment? begins;
    private readonly Moment? ends;

    private ZoneRule(int standard, int summer, Moment? begins, Moment? ends) =>
        (this.standard, this.summer, this.begins, this.ends) = (standard, summer, begins, ends);

    /// <summary>A day of each year, and seconds from its midnight.</summary>
    /// <param name="Form">J: a day from 1 without the 29th of February; N: a day from 0 with it; M: a weekday of a month.</param>
    private sealed record Moment(char Form, int Month, int Week, int WeekDay, int Seconds)
    {
        /// <summary>By the clock that holds until then, in seconds since 1970.</summary>
        public long In(int year)
        {
            var first = new DateTime(year, 1, 1, 0, 0, 0, DateTimeKind.Unspecified);
            var day =
                Form == 'N' ? first.AddDays(Month)
                : Form == 'J' ? first.AddDays(Month - 1 + (DateTime.IsLeapYear(year) && Month > 59 ? 1 : 0))
                : DayOf(new(year, Month, 1, 0, 0, 0, DateTimeKind.Unspecified));
            return ((day - DateTime.UnixEpoch).Ticks / TimeSpan.TicksPerSecond) + Seconds;
        }

        private DateTime DayOf(DateTime month)
        {
            var day = month.AddDays(((WeekDay - (int)month.DayOfWeek + 7) % 7) + ((Week - 1) * 7));
            return day.Month == month.Month ? day : day.AddDays(-7); // the fifth is the last there is
        }
    }

    public int OffsetAt(long at)
    {
        if (begins is null)
            return standard;
        var offset = standard;
        var year = YearOf(at);
        foreach (var (change, to) in All(year - 1, year + 1))
            if (change <= at)
                offset = to;
        return offset;
    }

    public IEnumerable<long> Changes(long from, long to) =>
        begins is null ? [] : All(YearOf(from) - 1, YearOf(to) + 1).Select(one => one.At);

    private static int YearOf(long at) => DateTimeOffset.FromUnixTimeSeconds(at).Year;

    private IEnumerable<(long At, int Offset)> All(int first, int last) =>
        Enumerable
            .Range(first, last - first + 1)
            .SelectMany(year =>
                new[]
                {
                    (At: begins!.In(year) - standard, Offset: summer),
                    (At: ends!.In(year) - summer, Offset: standard),
                }
            )
            // Where summer time is all year, one ends as the next begins.
            .OrderBy(one => one.At)
            .ThenBy(one => one.Offset == summer);

    /// <returns>Null: there is none, or it is no such rule.</returns>
    public static ZoneRule? Read(string text)
    {
        var at = 0;
        if (!Name() || Offset() is not { } standard)
            return null;
        if (at == text.Length)
            return new(-standard, 0, null, null);
        if (!Name())
            return null;
        var summer = at < text.Length && text[at] != ',' ? Offset() : standard - 3600;
        if (summer is null || Begin() is not { } begins || Begin() is not { } ends || at != text.Length)
            return null;
        return new(-standard, -summer.Value, begins, ends);

        bool Name()
        {
            var from = at;
            if (at < text.Length && text[at] == '<')
            {
                at = text.IndexOf('>', at) + 1;
                return at > from;
            }

            while (at < text.Length && char.IsAsciiLetter(text[at]))
                at++;
            return at - from >= 3;
        }

        int? Number(int least, int most)
        {
            var from = at;
            while (at < text.Length && char.IsAsciiDigit(text[at]) && at - from < 3)
                at++;
            return int.TryParse(text.AsSpan(from, at - from), out var number) && number >= least && number <= most
                ? number
                : null;
        }

        bool Is(char one)
        {
            if (at >= text.Length || text[at] != one)
                return false;
            at++;
            return true;
        }

        int? Offset()
        {
            var sign = Is('-') ? -1 : 1;
            if (sign == 1)
                Is('+');
            if (Number(0, 167) is not { } hours)
                return null;
            var (minutes, seconds) = (Is(':') ? Number(0, 59) : 0, Is(':') ? Number(0, 59) : 0);
            return sign * ((hours * 3600) + (minutes * 60) + seconds);
        }

        Moment? Begin()
        {
            if (!Is(','))
                return null;
            var (form, month, week, day) = ('N', (int?)0, (int?)0, (int?)0);
            if (Is('M'))
            {
                form = 'M';
                month = Number(1, 12);
                week = Is('.') ? Number(1, 5) : null;
                day = Is('.') ? Number(0, 6) : null;
            }
            else
            {
                form = Is('J') ? 'J' : 'N';
                month = Number(form == 'J' ? 1 : 0, 365);
            }

            var seconds = Is('/') ? Offset() : 2 * 3600;
            return month is { } m && week is { } w && day is { } d && seconds is { } s ? new(form, m, w, d, s) : null;
        }
    }
}
