using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// On the way to running

/// <summary>Something that it needs did not come in time.</summary>
/// <param name="Need">As people call it.</param>
/// <param name="Id">By what it is known again; null: of an earlier version, which knew it by what people call it alone.</param>
/// <param name="Seen">What was seen of it, as a clause.</param>
public abstract record NeedLateEntry(string Need, string? Id, TimeSpan Within, string? Seen) : Entry
{
    protected override EntryFields Own => Fielded(name: Need, about: Id, limit: Within, seen: Seen, next: Following);
    protected abstract EntryNext Following { get; }
    protected override string Sentence =>
        $"{Need} did not come within {Duration.Write(Within)}: {Seen}. {Following.InWords()}";
}

public sealed record NeedMissingEntry(string Need, string? Id, TimeSpan Within, string? Seen)
    : NeedLateEntry(Need, Id, Within, Seen)
{
    protected override EntryNext Following => EntryNext.KeepsWaiting;

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.NeedMissing : null;
}

public sealed record NeedPassedOverEntry(string Need, string? Id, TimeSpan Within, string? Seen)
    : NeedLateEntry(Need, Id, Within, Seen)
{
    protected override EntryNext Following => EntryNext.GoesAhead;
}

/// <param name="Pid">Null: its start command is still at work.</param>
/// <param name="Limit">Without a pid: for so long.</param>
public sealed record LaunchedEntry(RunNumber Run, int? Pid, TimeSpan? Limit = null) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, pid: Pid, limit: Limit);
    protected override string Sentence =>
        Pid is { } pid
            ? $"Run {Run} started as pid {pid}."
            : $"Its start command is still running after {Duration.Write(Limit.Needed())}.";
}

public sealed record NeverLaunchedEntry(RunNumber Run, Outcome Outcome) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, outcome: Outcome);
    protected override string Sentence => $"Run {Run} failed to start: {Outcome.Detail}.";

    public override Topic? TopicIf(bool tells, bool isJob) =>
        !tells ? null
        : isJob ? Topic.JobFailed
        : Topic.StartFailed;
}

public sealed record TakenUpEntry(RunNumber Run, int? Pid) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, pid: Pid);
    protected override string Sentence =>
        $"Run {Run} (pid {Pid}) was found running and taken up again; nothing was restarted.";
}

public sealed record DetachedEntry(RunNumber Run, int Pid) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, pid: Pid);
    protected override string Sentence => $"It put itself into the background: pid {Pid} is the program.";
}

/// <summary>Its main process ended, and by its pid file another one of its tree is that now.</summary>
public sealed record HandedOverEntry(RunNumber Run, int Pid) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, pid: Pid);
    protected override string Sentence =>
        $"It handed over to another process: by its pid file pid {Pid} is the program now.";
}

/// <param name="Stayed">The process that is taken to be the program; null: none could be identified.</param>
/// <param name="Within">With one that stayed: the time it had.</param>
/// <param name="Seen">Without one: what was seen instead, as a clause.</param>
public sealed record NotDetachedEntry(RunNumber Run, int? Stayed, TimeSpan? Within, string? Seen) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, pid: Stayed, limit: Within, seen: Seen);
    protected override string Sentence =>
        Stayed is { } pid
            ? $"It has not put itself into the background within {Duration.Write(Within.Needed())}: pid {pid} is taken to be the program."
            : "None of the processes it left in the background could be identified as the program"
                + $"{(Seen is { } seen ? $": {seen}" : "")}. They are stopped.";
}

public sealed record SwitchedOnEntry(RunNumber Run, Outcome Outcome) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, outcome: Outcome);
    protected override string Sentence =>
        $"Run {Run}: its start command {OutcomeWords.Of(Outcome)}; it is on until its off command switches it off.";
}

/// <param name="Seen">By what, as a clause.</param>
/// <param name="Took">From its launch; null: it serves as soon as it is up.</param>
/// <param name="Usual">How long that usually takes.</param>
/// <param name="Restarts">After so many failures; null: after none.</param>
public sealed record ProvenEntry(RunNumber Run, string? Seen, TimeSpan? Took, TimeSpan? Usual, int? Restarts) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: Seen, took: Took, usual: Usual, count: Restarts);
    protected override string Sentence =>
        $"Run {Run} is ready"
        + (Took is { } took ? $" {Seconds(took)} after launch" : "")
        + (Took is not null && Usual is { } usual ? $" (usually {Seconds(usual)})" : "")
        + $": {Seen}.";

    public override Topic? TopicIf(bool tells, bool isJob) => !tells && !isJob && Restarts > 0 ? Topic.CameBack : null;

    private static string Seconds(TimeSpan length) =>
        string.Create(CultureInfo.InvariantCulture, $"{length.TotalSeconds:0.0##} s");
}

/// <param name="Seen">What was seen instead, as a clause.</param>
public sealed record NotProvenEntry(RunNumber Run, TimeSpan Within, string Seen, EntryNext Next) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, limit: Within, seen: Seen, next: Next);
    protected override string Sentence =>
        $"Run {Run} was not ready within {Duration.Write(Within)} ({Seen}). {Next.InWords()}";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.NotReady : null;
}

public sealed record RecoveredEntry : Entry
{
    protected override string Sentence => "It runs again after having been on hold.";
}

internal static class StartEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(
            f => new NeedMissingEntry(f.Name.Needed(), f.About, f.Limit.Needed(), f.Seen),
            EntrySeverity.Warning
        ),
        EntryKind.Of(f => new NeedPassedOverEntry(f.Name.Needed(), f.About, f.Limit.Needed(), f.Seen)),
        EntryKind.Of(f => new LaunchedEntry(f.Run.Needed(), f.Pid, f.Limit)),
        EntryKind.Of(f => new NeverLaunchedEntry(f.Run.Needed(), f.Outcome.Needed()), EntrySeverity.Error),
        EntryKind.Of(f => new TakenUpEntry(f.Run.Needed(), f.Pid)),
        EntryKind.Of(f => new DetachedEntry(f.Run.Needed(), f.Pid.Needed())),
        EntryKind.Of(f => new HandedOverEntry(f.Run.Needed(), f.Pid.Needed())),
        EntryKind.Of(f => new NotDetachedEntry(f.Run.Needed(), f.Pid, f.Limit, f.Seen)),
        EntryKind.Of(f => new SwitchedOnEntry(f.Run.Needed(), f.Outcome.Needed())),
        EntryKind.Of(f => new ProvenEntry(f.Run.Needed(), f.Seen, f.Took, f.Usual, (int?)f.Count)),
        EntryKind.Of(
            f => new NotProvenEntry(f.Run.Needed(), f.Limit.Needed(), f.Seen.Needed(), f.Next),
            EntrySeverity.Warning
        ),
        EntryKind.Of(_ => new RecoveredEntry()),
    ];
}
