using CalmSentry.Core.Rhythms;

namespace CalmSentry.Core.Definitions;

/// <summary>What follows moments that nobody was there for: the machine was off or asleep, or the sentry down.</summary>
public enum IfMissed
{
    /// <summary>One run, or one restart, as soon as somebody is there again.</summary>
    Once,
    Pass,
}

/// <summary>What a moment leads to while the job is still at work on the one before.</summary>
public enum IfRunning
{
    Pass,

    /// <summary>It is run as soon as the one under way has ended; one waits at most.</summary>
    Queue,

    /// <summary>The one under way is wound down.</summary>
    TakeOver,
}

/// <summary>One rhythm of a service: when, and how its moments are taken.</summary>
public abstract record Planned(Rhythm When)
{
    /// <summary>A moment that is taken later than this was missed.</summary>
    public static readonly TimeSpan Grace = TimeSpan.FromMinutes(1);

    /// <summary>By whose clock (IANA time zone); null: the host's.</summary>
    public string? Zone { get; init; }

    /// <summary>Each moment comes later by a random part of this; null: see <see cref="SpreadOf"/>.</summary>
    public TimeSpan? Spread { get; init; }

    public IfMissed Missed { get; init; }

    /// <summary>Days on which nothing of it comes; null: none.</summary>
    public Excepted? Except { get; init; }

    public TimeZoneInfo Clock => Zone is null ? TimeZoneInfo.Local : TimeZoneInfo.FindSystemTimeZoneById(Zone);

    /// <summary>Which of the rhythms of a service it is, whatever else is set for it.</summary>
    public string Of => $"{Word} {When}{(Zone is null ? "" : $" {Zone}")}";

    protected abstract string Word { get; }

    /// <summary>When it comes, with the days that are left out.</summary>
    public Rhythm Moments => Except is { } except ? new Excepting(When, except) : When;

    /// <summary>The next moment after another; null: none comes any more.</summary>
    public DateTimeOffset? After(DateTimeOffset moment) => Moments.After(moment, Clock);

    /// <summary>
    /// By how much a moment is put off, so that many that have the same do not all begin at once. Of one "every so often"
    /// nobody has said at which second that is: each service has one of its own, within a minute.
    /// </summary>
    public TimeSpan SpreadOf(string service, DateTimeOffset moment) =>
        this switch
        {
            { Spread: { } spread } => Part(spread, Scatter.ShareOf(service, moment.UtcTicks)),
            { When: Every { Begins: null, Length: var length } } => Part(
                length < UsualSpread ? length : UsualSpread,
                Scatter.ShareOf(service, 0)
            ),
            _ => TimeSpan.Zero,
        };

    private static TimeSpan Part(TimeSpan whole, double share) =>
        TimeSpan.FromMilliseconds(Math.Floor(whole.TotalMilliseconds * share));

    /// <summary>Within this each service has a second of its own.</summary>
    public static readonly TimeSpan UsualSpread = TimeSpan.FromMinutes(1);

    /// <summary>When it is due: the moment, and what it is put off by.</summary>
    public DateTimeOffset DueOf(string service, DateTimeOffset moment) => moment + SpreadOf(service, moment);
}

/// <summary>A run of a periodic job.</summary>
public sealed record PlannedRun(Rhythm When) : Planned(When)
{
    public IfRunning IfRunning { get; init; }

    /// <summary>A run that takes longer is wound down; null: as long as it likes.</summary>
    public TimeSpan? Longest { get; init; }

    /// <summary>A person hears when a run is not done so long after it was due; null: however long that is.</summary>
    public TimeSpan? LateAfter { get; init; }

    /// <summary>A person hears when none has succeeded for so long; null: however long that is.</summary>
    public TimeSpan? SuccessWithin { get; init; }

    /// <summary>So many times an end that is no success is tried again, as long as that is before the next moment.</summary>
    public int Again { get; init; }

    protected override string Word => "run";
}

/// <summary>A time in which nothing of it is told.</summary>
/// <param name="When">When it begins.</param>
public sealed record PlannedQuiet(Rhythm When) : Planned(When)
{
    public TimeSpan For { get; init; }

    /// <summary>Nothing is restarted, either.</summary>
    public bool NoRestarts { get; init; }

    internal const string Kind = "quiet";

    protected override string Word => Kind;
}

/// <summary>A restart of a program that stays.</summary>
public sealed record PlannedRestart(Rhythm When) : Planned(When)
{
    /// <summary>
    /// Who says that it is busy: <c>said</c> (the program itself, on its socket), an address, or a command with its arguments;
    /// null: it is not asked.
    /// </summary>
    public string? Busy { get; init; }

    /// <summary>How long it is put off at most while it is busy.</summary>
    public TimeSpan PutOff { get; init; } = UsualPutOff;

    public static readonly TimeSpan UsualPutOff = TimeSpan.FromHours(2);

    /// <summary>It is needless where the program was begun anew within this.</summary>
    public TimeSpan NeedlessWithin { get; init; }

    /// <summary>It is needless as long as the program's memory is not above this, in bytes; null: whatever it is.</summary>
    public long? MemoryAbove { get; init; }

    /// <summary>
    /// It is needless unless the program's memory, as it grows, reaches its limit within this; null: however it grows. With
    /// <see cref="MemoryAbove"/> one of the two suffices.
    /// </summary>
    public TimeSpan? CeilingWithin { get; init; }

    /// <summary>What it is weighed by before it is done.</summary>
    public bool IsWeighed => Busy is not null || MemoryAbove is not null || CeilingWithin is not null;

    public const string BusySaid = "said";

    protected override string Word => "restart";
}
