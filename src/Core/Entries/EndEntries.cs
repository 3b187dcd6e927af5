using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// How it ends

public sealed record TooLongEntry(RunNumber Run, TimeSpan? Longest) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, limit: Longest);
    protected override string Sentence =>
        $"Run {Run} takes longer than {(Longest is { } longest ? Duration.Write(longest) : "it may")}: it is stopped.";
}

public sealed record MainEndedEntry(RunNumber Run, Outcome Outcome) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, outcome: Outcome);
    protected override string Sentence =>
        $"The main process {OutcomeWords.Of(Outcome)}; the rest of its processes are stopped.";
}

/// <param name="Step">Of its wind-down, as people call it.</param>
public sealed record StepAnsweredEntry(RunNumber Run, string Step, string Answer) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, name: Step, seen: Answer);
    protected override string Sentence => $"{Step}: {Answer}.";
}

/// <param name="Step">Of its wind-down, as people call it.</param>
public sealed record StepFailedEntry(RunNumber Run, string Step, string Answer, EntryNext Next) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, name: Step, seen: Answer, next: Next);
    protected override string Sentence => $"{Step} failed: {Answer}. {Next.InWords()}";
}

/// <param name="Step">Of its wind-down, as people call it.</param>
public sealed record StepOverEntry(RunNumber Run, string Step, TimeSpan Wait, EntryNext Next) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, name: Step, limit: Wait, next: Next);
    protected override string Sentence => $"{Step} did not stop it within {Duration.Write(Wait)}. {Next.InWords()}";
}

public sealed record WindDownAnewEntry(RunNumber Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Its wind-down was adjusted: it starts over.";
}

/// <param name="Outcome">Of its off command; null: it has not ended.</param>
/// <param name="Within">Without an outcome: for so long.</param>
public sealed record OffFailedEntry(RunNumber Run, Outcome? Outcome, TimeSpan? Within = null) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, outcome: Outcome, limit: Within);
    protected override string Sentence =>
        Outcome is { } off
            ? $"Its off command {OutcomeWords.Of(off)}; whether all of it is off is not known."
            : $"Its off command has not ended within {Duration.Write(Within.Needed())}; it is killed.";
}

public sealed record StillThereEntry(RunNumber Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence =>
        "Killed, yet something of it is still there: the kernel holds it (a disk or network that does not answer).";
}

/// <param name="Forced">The steps of its wind-down did not suffice.</param>
/// <param name="Step">The one that stopped it.</param>
/// <param name="Took">So long after that step it ended.</param>
/// <param name="Answer">What the step answered.</param>
public sealed record StoppedEntry(
    RunNumber Run,
    Outcome Outcome,
    bool Forced = false,
    string? Step = null,
    TimeSpan? Took = null,
    string? Answer = null
) : Entry
{
    protected override EntryFields Own =>
        Fielded(run: Run, outcome: Outcome, forced: Forced, name: Step, took: Took, seen: Answer);
    protected override string Sentence =>
        $"Run {Run} {OutcomeWords.Of(Outcome)}"
        + this switch
        {
            { Forced: true } => "; the steps of its wind-down did not suffice, it was killed.",
            { Step: { } step, Took: { } took } => string.Create(
                CultureInfo.InvariantCulture,
                $" {took.TotalSeconds:0.0##} s after {step}{(Answer is { } answer ? $" ({answer})" : "")}."
            ),
            _ => ".",
        };
}

/// <summary>A run that ended by itself.</summary>
/// <param name="FailedStart">Before it was ready.</param>
public abstract record RunOverEntry(RunNumber Run, Outcome Outcome, bool FailedStart) : Entry
{
    public EntryNext Next { get; init; }

    /// <summary>Until it is restarted.</summary>
    public TimeSpan? Pause { get; init; }

    /// <summary>The number of the try that follows; null: they are not counted.</summary>
    public long? Try { get; init; }

    /// <summary>As a clause.</summary>
    public string? Why { get; init; }

    protected override EntryFields Own =>
        Fielded(run: Run, outcome: Outcome, failedStart: FailedStart, next: Next, pause: Pause, count: Try, seen: Why);
    protected override string Sentence =>
        $"Run {Run} {OutcomeWords.Of(Outcome)}"
        + (FailedStart && Outcome.Kind != OutcomeKind.NotProven ? " before it was ready: a failed start" : "")
        + Next switch
        {
            EntryNext.Restart when Pause == TimeSpan.Zero => "; Calm Sentry restarts it at once.",
            EntryNext.Restart when Try is { } tries =>
                $"; it is tried again in {Length.Of(Pause.Needed())} (try {tries}).",
            EntryNext.Restart => $"; Calm Sentry restarts it in {Length.Of(Pause.Needed())}.",
            EntryNext.Rests => $"{(Why is { } said ? $": {said}" : "")}; it rests until its next moment.",
            EntryNext.FilesBefore => " with new files: those before are put back.",
            EntryNext.StopsDependents =>
                $"; {Because}it will not be restarted automatically, and what needs it is stopped.",
            EntryNext.StaysStopped => $"; {Because}it will not be restarted automatically.",
            _ => ".",
        };

    private string Because => Why is { } why ? $"{why}: " : "";
}

public sealed record EndedEntry(RunNumber Run, Outcome Outcome, bool FailedStart = false)
    : RunOverEntry(Run, Outcome, FailedStart);

public sealed record FellEntry(RunNumber Run, Outcome Outcome, bool FailedStart = false)
    : RunOverEntry(Run, Outcome, FailedStart)
{
    /// <summary>It is restarted; what was to run on and ended with success did not fail.</summary>
    public bool IsRestartedFailure => Next == EntryNext.Restart && (FailedStart || !Outcome.IsGood);

    public override Topic? TopicIf(bool tells, bool isJob) =>
        !tells
            ? !isJob && IsRestartedFailure
                ? Topic.Restarted
                : null
            : isJob
                ? Topic.JobFailed
                : FailedStart
                    ? Topic.StartFailed
                    : Topic.Down;
}

/// <param name="RetryEvery">Null: it is not tried again by itself.</param>
public sealed record HeldEntry(RunNumber? Run, TimeSpan? RetryEvery) : Entry
{
    /// <summary>As a clause; null: by how often it failed.</summary>
    public string? Why { get; init; }

    public long? Failures { get; init; }

    /// <summary>The time in which it failed so often.</summary>
    public TimeSpan? Within { get; init; }

    /// <summary>It was tried while on hold.</summary>
    public bool Again { get; init; }

    protected override EntryFields Own =>
        Fielded(
            run: Run,
            pause: RetryEvery,
            seen: Why,
            count: Failures,
            limit: Within,
            next: Again ? EntryNext.HoldAgain : EntryNext.Nothing
        );
    protected override string Sentence =>
        (
            Again ? "Back on hold."
            : Why is { } why ? $"Held because {why}."
            : $"Held after {Failures} failure{(Failures == 1 ? "" : "s")} within {Duration.Write(Within.Needed())}."
        )
        + (
            RetryEvery is { } pause
                ? $" Calm Sentry tries again every {Duration.Write(pause)}; 'calm release' or a start tries it now."
                : " 'calm release' or a start tries it again."
        );

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Held : null;
}

public sealed record RetriedEntry(TimeSpan After) : Entry
{
    protected override EntryFields Own => Fielded(pause: After);
    protected override string Sentence => $"Tried again after {Duration.Write(After)} on hold.";
}

public sealed record RemainsEndedEntry(RunNumber Run, long Processes) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, count: Processes);
    protected override string Sentence =>
        $"Run {Run} had lost its keeper; {Processes} of its processes lived on without one and were killed.";
}

internal static class EndEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(f => new TooLongEntry(f.Run.Needed(), f.Limit), EntrySeverity.Warning),
        EntryKind.Of(f => new MainEndedEntry(f.Run.Needed(), f.Outcome.Needed())),
        EntryKind.Of(f => new StepAnsweredEntry(f.Run.Needed(), f.Name.Needed(), f.Seen.Needed())),
        EntryKind.Of(
            f => new StepFailedEntry(f.Run.Needed(), f.Name.Needed(), f.Seen.Needed(), f.Next),
            EntrySeverity.Warning
        ),
        EntryKind.Of(
            f => new StepOverEntry(f.Run.Needed(), f.Name.Needed(), f.Limit.Needed(), f.Next),
            EntrySeverity.Warning
        ),
        EntryKind.Of(f => new WindDownAnewEntry(f.Run.Needed())),
        EntryKind.Of(f => new OffFailedEntry(f.Run.Needed(), f.Outcome, f.Limit)),
        EntryKind.Of(f => new StillThereEntry(f.Run.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new StoppedEntry(f.Run.Needed(), f.Outcome.Needed(), f.Forced, f.Name, f.Took, f.Seen)),
        EntryKind.Of(f => Over(f, new EndedEntry(f.Run.Needed(), f.Outcome.Needed(), f.FailedStart))),
        EntryKind.Of(
            f => Over(f, new FellEntry(f.Run.Needed(), f.Outcome.Needed(), f.FailedStart)),
            EntrySeverity.Error
        ),
        EntryKind.Of(
            f => new HeldEntry(f.Run, f.Pause)
            {
                Why = f.Seen,
                Failures = f.Count,
                Within = f.Limit,
                Again = f.Next == EntryNext.HoldAgain,
            },
            EntrySeverity.Critical
        ),
        EntryKind.Of(f => new RetriedEntry(f.Pause.Needed())),
        EntryKind.Of(f => new RemainsEndedEntry(f.Run.Needed(), f.Count.Needed()), EntrySeverity.Warning),
    ];

    private static T Over<T>(EntryFields f, T over)
        where T : RunOverEntry => (T)(over with { Next = f.Next, Pause = f.Pause, Try = f.Count, Why = f.Seen });
}
