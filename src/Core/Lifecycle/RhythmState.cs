using System.Collections.Immutable;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Lifecycle;

/// <summary>
/// Where a service stands in its planned moments. Its times are of people's clock, which may be set: what was taken does not
/// come again.
/// </summary>
/// <param name="Places">In the order of the definition.</param>
public sealed record RhythmState(ImmutableArray<RhythmPlace> Places)
{
    /// <summary>The moment that the run under way or waited for belongs to; null: another cause began it.</summary>
    public DateTimeOffset? Slot { get; init; }

    /// <summary>Which rhythm that moment is of.</summary>
    public string? SlotOf { get; init; }

    /// <summary>How often this moment's run was tried again.</summary>
    public int Tries { get; init; }

    /// <summary>A moment that is run as soon as the run under way has ended, and which rhythm it is of.</summary>
    public (DateTimeOffset At, string Of)? Queued { get; init; }

    /// <summary>A restart that is due; null: none is.</summary>
    public DueRestart? Restart { get; init; }

    /// <summary>So many restarts were needless since it was last restarted by its rhythm.</summary>
    public long Spared { get; init; }

    /// <summary>The moment of the restart that is under way: until it is proven, or has failed.</summary>
    public DateTimeOffset? Restarting { get; init; }

    /// <summary>When a run last succeeded, or since when its moments count; null: in the time of an earlier version.</summary>
    public DateTimeOffset? Good { get; init; }

    /// <summary>It was told that no run has succeeded for too long.</summary>
    public bool Overdue { get; init; }

    /// <summary>The last moment of which it was told that its run is late.</summary>
    public DateTimeOffset? ToldLate { get; init; }

    /// <summary>When it is to be told that a run is late, or that none has succeeded; null: as things are, never.</summary>
    public DateTimeOffset? TellAt { get; init; }

    /// <summary>The files whose days are left out, in the order of the definition, with what is known of them.</summary>
    public ImmutableArray<FileDays> Days { get; init; } = [];

    /// <summary>When those files are to be read, by people's clock; null: there are none.</summary>
    public DateTimeOffset? ReadDaysAt { get; init; }

    public static RhythmState From(Definition definition, DateTimeOffset now) =>
        new([.. definition.Rhythm.Select(planned => RhythmPlace.After(now, planned, definition.Name))]) { Good = now };

    /// <summary>When the calendar is to be looked at next, by people's clock; null: never.</summary>
    public DateTimeOffset? LookAt
    {
        get
        {
            var due = Places.Min(place => place.Due);
            if (TellAt < due || due is null)
                due = TellAt;
            if (ReadDaysAt < due || due is null)
                due = ReadDaysAt;
            return Restart is { Goes: false, Latest: var latest } && !(due < latest) ? latest : due;
        }
    }

    /// <summary>The run or restart that is due first; null: none comes any more.</summary>
    public RhythmPlace? Next =>
        Places.Where(place => place is { Due: not null, IsQuiet: false }).MinBy(place => place.Due);

    public bool Fits(Definition definition) =>
        Places.Length == definition.Rhythm.Length
        && Places
            .Zip(definition.Rhythm)
            .All(pair => pair.First.Of == pair.Second.Of && pair.First.Except == pair.Second.Except?.ToString());

    /// <summary>The rhythms of a service, with the days of files that are known.</summary>
    /// <param name="rhythm">Null: where it stands is not known, or it is at rest.</param>
    public static ImmutableArray<Planned> InForce(Definition definition, RhythmState? rhythm) =>
        rhythm is null or { Days.IsEmpty: true }
            ? definition.Rhythm
            :
            [
                .. definition.Rhythm.Select(planned =>
                    planned.Except is { File: { } file } except
                    && rhythm.Days.FirstOrDefault(known => known.File == file) is { } days
                        ? planned with
                        {
                            Except = except with { OfFile = days.Days },
                        }
                        : planned
                ),
            ];

    /// <summary>The same for another definition: what it has in common was taken as far as it was.</summary>
    /// <param name="otherDays">The days of a file are others than before.</param>
    public RhythmState FittedTo(Definition definition, DateTimeOffset now, bool otherDays = false) =>
        this with
        {
            Places =
            [
                .. InForce(definition, this)
                    .Select(planned => RhythmPlace.After(TakenOf(planned, now, otherDays), planned, definition.Name)),
            ],
        };

    private DateTimeOffset TakenOf(Planned planned, DateTimeOffset now, bool otherDays)
    {
        if (Places.FirstOrDefault(place => place.Of == planned.Of) is not { } place)
            return now;
        // A day that is left out no longer brings nothing back that is past.
        var isOther = otherDays ? planned.Except is not null : place.Except != planned.Except?.ToString();
        return isOther && !(place.Next <= now) && place.Taken < now ? now : place.Taken;
    }
}

/// <summary>A file with days that are left out.</summary>
/// <param name="Days">As they were read last.</param>
/// <param name="Wrong">Why it could not be read since, as a clause; null: it could, or has not been read.</param>
public sealed record FileDays(string File, ImmutableSortedSet<DateOnly> Days, string? Wrong = null)
{
    public bool Equals(FileDays? other) =>
        other is not null && File == other.File && Wrong == other.Wrong && Days.SetEquals(other.Days);

    public override int GetHashCode() => HashCode.Combine(File, Wrong, Days.Count);
}

/// <summary>How far one rhythm is.</summary>
/// <param name="Of">Which (<see cref="Planned.Of"/>).</param>
/// <param name="Taken">The last moment that was taken, or since when its moments count.</param>
/// <param name="Next">The next moment; null: none comes any more.</param>
/// <param name="Due">When that is due: some come a little later than their moment.</param>
public sealed record RhythmPlace(string Of, DateTimeOffset Taken, DateTimeOffset? Next, DateTimeOffset? Due)
{
    /// <summary>A quiet time begins then, and nothing is run or restarted.</summary>
    public bool IsQuiet => Of.StartsWith(PlannedQuiet.Kind, StringComparison.Ordinal);

    /// <summary>The days that it leaves out, as the definition has them.</summary>
    public string? Except { get; init; }

    public static RhythmPlace After(DateTimeOffset taken, Planned planned, string service)
    {
        var next = planned.After(taken);
        return new(planned.Of, taken, next, next is { } at ? planned.DueOf(service, at) : null)
        {
            Except = planned.Except?.ToString(),
        };
    }
}

/// <summary>A planned restart whose moment has come.</summary>
/// <param name="Of">Which rhythm it is of.</param>
/// <param name="Latest">From then on it is done, busy or not.</param>
public sealed record DueRestart(string Of, DateTimeOffset Moment, DateTimeOffset Latest)
{
    /// <summary>What the program is busy with, as a clause; null: it is not, or has not been asked.</summary>
    public string? Busy { get; init; }

    /// <summary>Nothing but the order among services that need each other is waited for.</summary>
    public bool Goes { get; init; }
}
