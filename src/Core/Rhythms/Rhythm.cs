using System.Collections.Immutable;
using Cronos;

namespace CalmSentry.Core.Rhythms;

/// <summary>A rule for moments: which is the next after any other.</summary>
public abstract record Rhythm
{
    /// <summary>The first moment after another, in Universal Time; null: none comes any more.</summary>
    /// <param name="zone">By whose clocks times of day are meant.</param>
    public abstract DateTimeOffset? After(DateTimeOffset moment, TimeZoneInfo zone);

    /// <summary>The moments after another, as many as are asked for.</summary>
    public IEnumerable<DateTimeOffset> Following(DateTimeOffset moment, TimeZoneInfo zone)
    {
        for (var next = After(moment, zone); next is { } at; next = After(at, zone))
            yield return at;
    }

    /// <summary>The last moment that is not after another and after the one that is known; null: there is none.</summary>
    /// <param name="known">A moment of it, or before all that are asked for.</param>
    public DateTimeOffset? Latest(DateTimeOffset known, DateTimeOffset until, TimeZoneInfo zone)
    {
        // From near the end, further back each time: there may be a great many between.
        for (var back = TimeSpan.FromMinutes(1); ; back *= 2)
        {
            var from = until - back > known ? until - back : known;
            if (After(from, zone) is { } first && first <= until)
                return Following(first, zone).TakeWhile(at => at <= until).Aggregate(first, (_, at) => at);
            if (from == known)
                return null;
        }
    }

    /// <summary>As a definition writes it (<see cref="RhythmWords"/>).</summary>
    public abstract override string ToString();

    private protected static readonly DateTime LastDay = new(9000, 1, 1, 0, 0, 0, DateTimeKind.Unspecified);
}

/// <summary>Times of a clock on the wall: each comes once a day at most, whatever the clock does.</summary>
public abstract record WallRhythm : Rhythm
{
    /// <summary>The first time at this one or later; null: there is none.</summary>
    protected abstract DateTime? From(DateTime wall);

    public sealed override DateTimeOffset? After(DateTimeOffset moment, TimeZoneInfo zone)
    {
        for (var next = From(WallClock.Of(moment, zone)); next is { } wall; next = From(wall.AddTicks(1)))
        {
            // In an hour that comes a second time what has come in the first does not come again.
            var at = WallClock.At(wall, zone);
            if (at > moment)
                return at;
        }

        return null;
    }
}

/// <summary>At times of the day, on some days.</summary>
/// <param name="Times">Ascending, at least one.</param>
public sealed record AtTimes(ImmutableArray<TimeOnly> Times, Days Days) : WallRhythm
{
    protected override DateTime? From(DateTime wall)
    {
        for (var day = wall.Date; day < LastDay; day = day.AddDays(1))
        {
            if (!Days.Have(day))
                continue;
            foreach (var time in Times)
                if (day + time.ToTimeSpan() >= wall)
                    return day + time.ToTimeSpan();
        }

        return null;
    }

    public bool Equals(AtTimes? other) =>
        other is not null && Days == other.Days && Times.AsSpan().SequenceEqual(other.Times.AsSpan());

    public override int GetHashCode() => HashCode.Combine(Days, Times.Length, Times[0]);

    public override string ToString() => RhythmWords.Of(this);
}

/// <summary>
/// Which days: all, days of the week, days of the month, or weekdays counted within the month; of a month that has no such day none.
/// </summary>
/// <param name="Week">Bit 0 is Sunday (<see cref="DayOfWeek"/>).</param>
/// <param name="Month">Bit 1 is the first, bit 0 the last of the month.</param>
/// <param name="Counted">Seven bits, as <paramref name="Week"/> has them, for the first of each in the month, seven for the second, up to
/// the fifth, and seven for the last.</param>
public readonly record struct Days(byte Week, uint Month, ulong Counted = 0)
{
    public static readonly Days All;

    /// <summary>Which bits of <see cref="Counted"/> are those of the last of each in the month, after so many others.</summary>
    public const int Last = 5;

    public static ulong Bit(int which, DayOfWeek day) => 1ul << ((7 * which) + (int)day);

    public bool Have(DateTime day)
    {
        var left = DateTime.DaysInMonth(day.Year, day.Month) - day.Day;
        return (Week == 0 && Month == 0 && Counted == 0)
            || (Week >> (int)day.DayOfWeek & 1) != 0
            || (Month >> day.Day & 1) != 0
            || ((Month & 1) != 0 && left == 0)
            || (Counted & Bit((day.Day - 1) / 7, day.DayOfWeek)) != 0
            || (left < 7 && (Counted & Bit(Last, day.DayOfWeek)) != 0);
    }
}

/// <summary>One moment, and no other.</summary>
public sealed record Once(DateTime At) : WallRhythm
{
    protected override DateTime? From(DateTime wall) => wall <= At ? At : null;

    public override string ToString() => RhythmWords.Of(this);
}

/// <summary>
/// Every so often, each day anew from one time of the day on; the lengths between are of true time, whatever the clock does.
/// </summary>
/// <param name="Length">10 s to less than a day.</param>
/// <param name="Begins">Null: at midnight, for nobody said when.</param>
public sealed record Every(TimeSpan Length, TimeOnly? Begins) : Rhythm
{
    public override DateTimeOffset? After(DateTimeOffset moment, TimeZoneInfo zone)
    {
        var day = WallClock.Of(moment, zone).Date;
        var begins = Enumerable
            .Range(-1, 4)
            .Select(days => WallClock.At(day.AddDays(days) + (Begins ?? TimeOnly.MinValue).ToTimeSpan(), zone))
            .ToList();
        var now = begins.FindLastIndex(begin => begin <= moment);
        var next = begins[now] + ((((moment - begins[now]).Ticks / Length.Ticks) + 1) * Length);
        return next < begins[now + 1] ? next : begins[now + 1];
    }

    public override string ToString() => RhythmWords.Of(this);
}

/// <summary>
/// From a first moment on, every so many months and days by the calendar, and every so long beside them in true time
/// (ISO 8601, repeating intervals). A month without the first one's day has it on its last.
/// </summary>
/// <param name="First">By the clock of the zone, or of <paramref name="Offset"/>.</param>
/// <param name="Count">So many moments in all; null: without end.</param>
public sealed record Repeating(DateTime First, TimeSpan? Offset, int Months, int Days, TimeSpan Time, int? Count = null)
    : Rhythm
{
    private static readonly TimeSpan Longest = TimeSpan.FromDays(31);

    public override DateTimeOffset? After(DateTimeOffset moment, TimeZoneInfo zone)
    {
        var by = Offset is { } offset ? TimeZoneInfo.CreateCustomTimeZone("its own", offset, null, null) : zone;
        // No step is longer than this, but for an hour of a clock that is set back.
        var longest = (Months * Longest) + TimeSpan.FromDays(Days) + Time;
        var from = (moment - At(0, by)).Ticks / longest.Ticks;
        for (var step = Math.Max(0, from - 1); Count is not { } count || step < count; step++)
        {
            if ((Months * step) + (Days * step / 28) > 12 * 6000)
                return null; // the end of the calendar
            var at = At(step, by);
            if (at > moment)
                return at;
        }

        return null;
    }

    private DateTimeOffset At(long step, TimeZoneInfo zone) =>
        WallClock.At(First.AddMonths((int)(Months * step)).AddDays(Days * step), zone) + (Time * step);

    public override string ToString() => RhythmWords.Of(this);
}

/// <summary>
/// The five fields of a crontab (POSIX, crontab): where both a day of the month and a day of the week are given, a day that
/// has one of them counts.
/// </summary>
public sealed record Cron(string Fields) : WallRhythm
{
    /// <summary>The library joins both days by and: so each is asked for by itself.</summary>
    private readonly ImmutableArray<CronExpression> expressions = Expressions(Fields);

    private static ImmutableArray<CronExpression> Expressions(string fields)
    {
        var all = fields.Split(' ');
        return all[2].StartsWith('*') || all[4].StartsWith('*')
            ? [CronExpression.Parse(fields)]
            :
            [
                CronExpression.Parse(string.Join(' ', all[0], all[1], all[2], all[3], "*")),
                CronExpression.Parse(string.Join(' ', all[0], all[1], "*", all[3], all[4])),
            ];
    }

    protected override DateTime? From(DateTime wall)
    {
        var from = DateTime.SpecifyKind(wall, DateTimeKind.Utc);
        return expressions.Min(one => one.GetNextOccurrence(from, inclusive: true)) is { } next
            ? DateTime.SpecifyKind(next, DateTimeKind.Unspecified)
            : null;
    }

    public bool Equals(Cron? other) => Fields == other?.Fields;

    public override int GetHashCode() => Fields.GetHashCode(StringComparison.Ordinal);

    public override string ToString() => $"cron {Fields}";
}
