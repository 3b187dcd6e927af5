using System.Collections.Immutable;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// Its rhythm, and its quiet times

/// <param name="Last">The last of them.</param>
/// <param name="Next">It goes ahead: it is made up for.</param>
public sealed record MomentsMissedEntry(long Count, DateTimeOffset Last, EntryNext Next) : Entry
{
    /// <summary>So many are counted one by one; more than that are that many at least.</summary>
    public const int MostCounted = 1000;

    protected override EntryFields Own => Fielded(count: Count, moment: Last, next: Next);
    protected override string Sentence =>
        (
            Count == 1 ? "A planned moment was"
            : Count >= MostCounted ? $"{Count} planned moments or more were"
            : $"{Count} planned moments were"
        )
        + $" missed, the last at {At(Last)}"
        + (Next == EntryNext.GoesAhead ? "; it is made up for once, now." : ".");

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.JobMissed : null;
}

/// <summary>A moment came while the run before was still there.</summary>
/// <param name="Run">The run before; null: it still waits.</param>
public abstract record MomentMetEntry(DateTimeOffset Moment, RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment, run: Run);

    private protected string Still => Run is { } run ? $"run {run} is still at work" : "the run before still waits";
}

public sealed record MomentPassedEntry(DateTimeOffset Moment, RunNumber? Run) : MomentMetEntry(Moment, Run)
{
    protected override string Sentence => $"What was planned for {At(Moment)} is left out: {Still}.";
}

public sealed record MomentQueuedEntry(DateTimeOffset Moment, RunNumber? Run) : MomentMetEntry(Moment, Run)
{
    protected override string Sentence => $"What was planned for {At(Moment)} waits: {Still}.";
}

public sealed record MomentTakesOverEntry(DateTimeOffset Moment, RunNumber? Run) : MomentMetEntry(Moment, Run)
{
    protected override string Sentence =>
        $"What was planned for {At(Moment)} takes its place: {Still}{(Run is null ? "" : ", and is stopped")}.";
}

/// <summary>The file with the days that its rhythm leaves out has others than before, or cannot be read.</summary>
/// <param name="Days">So many are left out.</param>
/// <param name="Wrong">Why it cannot be read, as a clause.</param>
public sealed record DaysReadEntry(string File, long Days, string? Wrong) : Entry
{
    protected override EntryFields Own => Fielded(name: File, count: Days, seen: Wrong);
    protected override string Sentence =>
        Wrong is null
            ? $"Its rhythm leaves out {Days} day{(Days == 1 ? "" : "s")}, as {File} says."
            : $"The days that its rhythm leaves out cannot be read from {File}: {Wrong}. "
                + (Days == 0 ? "None of it is left out." : $"The {Days} of before hold.");
}

public sealed record MomentSkippedEntry(DateTimeOffset Moment) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment);
    protected override string Sentence => $"What is planned for {At(Moment)} is skipped, as requested.";
}

public sealed record MomentAdvancedEntry(DateTimeOffset Moment) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment);
    protected override string Sentence => $"What is planned for {At(Moment)} is done now, as requested.";
}

/// <param name="Started">So long before it was started.</param>
/// <param name="Why">Another reason than that, as a clause.</param>
public sealed record RestartNeedlessEntry(DateTimeOffset Moment, TimeSpan Started, string? Why = null) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment, took: Started, seen: Why);
    protected override string Sentence =>
        $"The restart planned for {At(Moment)} "
        + (Why is { } why ? $"is left out: {why}." : $"is not needed: it was started {Length.Of(Started)} before.");
}

/// <param name="Why">As a clause.</param>
/// <param name="Spared">So many since the last restart, with this one.</param>
public sealed record RestartSparedEntry(DateTimeOffset Moment, string Why, long Spared) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment, seen: Why, count: Spared);
    protected override string Sentence =>
        $"The restart planned for {At(Moment)} is not needed: {Why} ({Spared} saved since the last one).";
}

/// <param name="Busy">With what it is busy, as a clause.</param>
public sealed record RestartPutOffEntry(DateTimeOffset Moment, string Busy, TimeSpan AtMost) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment, seen: Busy, limit: AtMost);
    protected override string Sentence =>
        $"The restart planned for {At(Moment)} is put off, for {Length.Of(AtMost)} at most: {Busy}.";
}

/// <param name="Busy">With what it is busy although its time is up, as a clause; null: with nothing.</param>
public sealed record RestartDueEntry(RunNumber Run, DateTimeOffset Moment, string? Busy) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, moment: Moment, seen: Busy, next: EntryNext.StopAndRestart);
    protected override string Sentence =>
        $"The restart planned for {At(Moment)}"
        + (
            Busy is { } busy
                ? $" has been put off as long as it may ({busy}): it is restarted."
                : ": it is stopped and restarted."
        );
}

public sealed record RestartFailedEntry(RunNumber Run, Outcome Outcome, DateTimeOffset Moment) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, outcome: Outcome, moment: Moment);
    protected override string Sentence =>
        $"The restart planned for {At(Moment)} failed: run {Run} {OutcomeWords.Of(Outcome)}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.RestartFailed : null;
}

/// <summary>A run is not done so long after its moment.</summary>
/// <param name="Stands">What it is at instead, as a clause.</param>
public sealed record JobLateEntry(DateTimeOffset Moment, RunNumber? Run, TimeSpan After, string Stands) : Entry
{
    protected override EntryFields Own => Fielded(moment: Moment, run: Run, limit: After, seen: Stands);
    protected override string Sentence =>
        $"The run planned for {At(Moment)} is not done {Duration.Write(After)} after it was due: {Stands}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.JobLate : null;
}

/// <summary>No run has succeeded for longer than it may be.</summary>
/// <param name="Good">When the last one that did ended.</param>
public sealed record JobOverdueEntry(DateTimeOffset Good, TimeSpan Within) : Entry
{
    protected override EntryFields Own => Fielded(moment: Good, limit: Within);
    protected override string Sentence => $"No run has succeeded within {Duration.Write(Within)}, since {At(Good)}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.JobOverdue : null;
}

public sealed record QuietBeganEntry(TimeSpan For, string? Reason, bool NoRestarts) : Entry
{
    protected override EntryFields Own => Fielded(limit: For, seen: Reason, forced: NoRestarts);
    protected override string Sentence =>
        $"Quiet for {Length.Of(For)}{(Reason is { } reason ? $" ({reason})" : "")}: "
        + $"no alert is raised{(NoRestarts ? ", and nothing is restarted" : "")}.";
}

/// <param name="Withheld">Alerts, the first of them as sentences.</param>
public sealed record QuietOverEntry(TimeSpan After, long Count, ImmutableArray<string> Withheld) : Entry
{
    protected override EntryFields Own => Fielded(took: After, count: Count, names: Withheld);
    protected override string Sentence =>
        $"No longer quiet, after {Length.Of(After)}. "
        + (
            Count == 0
                ? "No alert was withheld."
                : $"Withheld: {string.Join("; ", Withheld)}{(Count > Withheld.Length ? $"; and {Count - Withheld.Length} more" : "")}."
        );

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Withheld : null;
}

/// <summary>What a quiet time kept back is still so at its end.</summary>
/// <param name="Seen">What was said when it began, as a sentence.</param>
public sealed record GoesOnEntry(Topic About, string Seen) : Entry
{
    protected override EntryFields Own =>
        Fielded(name: Words.Of(About), seen: Seen, count: Asks is { } at ? (int)at : null);
    protected override string Sentence => $"It began in the quiet time, and goes on: {Seen.TrimEnd('.')}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? About : null;
}

internal static class RhythmEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(f => new MomentsMissedEntry(f.Count ?? 1, f.Moment.Needed(), f.Next), EntrySeverity.Warning),
        EntryKind.Of(f => new MomentPassedEntry(f.Moment.Needed(), f.Run)),
        EntryKind.Of(f => new MomentQueuedEntry(f.Moment.Needed(), f.Run)),
        EntryKind.Of(f => new MomentTakesOverEntry(f.Moment.Needed(), f.Run)),
        EntryKind.Of(f => new DaysReadEntry(f.Name.Needed(), f.Count ?? 0, f.Seen)),
        EntryKind.Of(f => new MomentSkippedEntry(f.Moment.Needed())),
        EntryKind.Of(f => new MomentAdvancedEntry(f.Moment.Needed())),
        EntryKind.Of(f => new RestartNeedlessEntry(f.Moment.Needed(), f.Took.Needed(), f.Seen)),
        EntryKind.Of(f => new RestartSparedEntry(f.Moment.Needed(), f.Seen.Needed(), f.Count.Needed())),
        EntryKind.Of(f => new RestartPutOffEntry(f.Moment.Needed(), f.Seen.Needed(), f.Limit.Needed())),
        EntryKind.Of(f => new RestartDueEntry(f.Run.Needed(), f.Moment.Needed(), f.Seen)),
        EntryKind.Of(
            f => new RestartFailedEntry(f.Run.Needed(), f.Outcome.Needed(), f.Moment.Needed()),
            EntrySeverity.Warning
        ),
        EntryKind.Of(
            f => new JobLateEntry(f.Moment.Needed(), f.Run, f.Limit.Needed(), f.Seen.Needed()),
            EntrySeverity.Warning
        ),
        EntryKind.Of(f => new JobOverdueEntry(f.Moment.Needed(), f.Limit.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new QuietBeganEntry(f.Limit.Needed(), f.Seen, f.Forced)),
        EntryKind.Of(f => new QuietOverEntry(f.Took.Needed(), f.Count ?? 0, f.Names)),
        EntryKind.Of(
            f => new GoesOnEntry(Words.To<Topic>(f.Name.Needed()), f.Seen.Needed()) { Asks = (AskedAt?)f.Count },
            EntrySeverity.Warning
        ),
    ];
}
