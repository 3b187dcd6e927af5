using System.Collections.Immutable;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// While it runs

/// <param name="Seen">What a watch found, as a clause.</param>
/// <param name="Lasting">For how long it has, where that is what counts.</param>
/// <param name="Looks">How often in a row.</param>
/// <param name="MemoryGrows">As its memory grows, it reaches its limit soon.</param>
public sealed record UnwellEntry(RunNumber Run, string? Seen, TimeSpan? Lasting, long? Looks, bool MemoryGrows) : Entry
{
    /// <summary>The word that is stored for it.</summary>
    internal const string Growing = "memory-grows";

    public EntryNext Next { get; init; }

    /// <summary>What a watch found, with how long or how often, as a clause.</summary>
    public string Found =>
        Seen
        + this switch
        {
            { Lasting: { } length } => $" for {Length.Of(length)}",
            { Looks: > 1 and var looks } => $" ({looks} looks in a row)",
            _ => "",
        };

    protected override EntryFields Own =>
        Fielded(run: Run, seen: Seen, took: Lasting, count: Looks, name: MemoryGrows ? Growing : null, next: Next);
    protected override string Sentence => $"Health poor: {Found}. {Next.InWords()}".TrimEnd();

    public override Topic? TopicIf(bool tells, bool isJob) =>
        MemoryGrows
            ? tells || Next == EntryNext.Nothing
                ? Topic.Memory
                : null
            : tells
                ? Topic.Poor
                : null;
}

public sealed record WellAgainEntry(RunNumber Run, string? Seen) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: Seen);
    protected override string Sentence => $"Healthy again: {Seen}.";
}

public sealed record NeededLostEntry(string Service, EntryNext Next = EntryNext.Nothing) : Entry
{
    protected override EntryFields Own => Fielded(name: Service, next: Next);
    protected override string Sentence =>
        $"{Service}, which it needs, is gone; "
        + Next switch
        {
            EntryNext.StopAndRestart => "it is restarted once that is ready again.",
            EntryNext.KeepsWaiting => "it is stopped too, and starts again with it.",
            _ => "it keeps running.",
        };
}

public sealed record NeededBackEntry(string Service) : Entry
{
    protected override EntryFields Own => Fielded(name: Service);
    protected override string Sentence => $"{Service}, which it needs, is ready again; it is restarted.";
}

public sealed record OutputStuckEntry(string Why) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence =>
        $"Its output cannot be written: {Why}. Nothing is dropped; the program waits when it prints more.";
}

public sealed record OutputFlowsEntry : Entry
{
    protected override string Sentence => "Its output is written again.";
}

public sealed record OutputLostEntry(RunNumber Run, long Bytes) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, count: Bytes);
    protected override string Sentence =>
        $"The last {Bytes} bytes of run {Run}'s output found no room on the disk and are lost.";
}

public sealed record OutputDroppedEntry(string Why) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence =>
        $"Its output cannot be written: {Why}. The program goes on; what it prints is lost, and how much is written in its place once there is room.";
}

public sealed record OutputLetGoEntry(long Files, string Size) : Entry
{
    protected override EntryFields Own => Fielded(count: Files, seen: Size);
    protected override string Sentence =>
        $"{Files} of its oldest files of output went, {Size}: more is not to be kept.";
}

public sealed record OutputUnkeptEntry(string Why) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence =>
        $"What was turned over of its output cannot be packed or let go: {Why}. It is tried again each minute.";
}

public sealed record ReopenFailedEntry(RunNumber Run, string Why) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: Why);
    protected override string Sentence =>
        $"It was to open its log files anew: {Why}. What it writes to the one moved aside is still kept.";
}

/// <param name="Heard">So many times a second it is heard.</param>
public sealed record SaysTooOftenEntry(long Heard) : Entry
{
    protected override EntryFields Own => Fielded(count: Heard);
    protected override string Sentence =>
        $"It speaks of itself more than {Heard} times a second; what is more than that is not heard.";
}

/// <summary>How a program puts an entry into the logbook itself.</summary>
public enum NoteManner
{
    Notes,
    Warns,

    /// <summary>A person is to hear of it.</summary>
    Asks,
}

/// <summary>The program itself put it there, or one below it.</summary>
/// <param name="Named">Fields that it gave it, as <c>name: value</c>.</param>
public sealed record NotedEntry(RunNumber? Run, NoteManner Manner, string Said, ImmutableArray<string> Named) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, name: Words.Of(Manner), seen: Said, names: Named);
    protected override string Sentence =>
        $"It {(Manner == NoteManner.Asks ? "asks for a person" : Words.Of(Manner))}: {Said}{(Named.IsEmpty ? "" : $" ({Listed(Named)})")}";
    protected override EntrySeverity Severity =>
        Manner == NoteManner.Warns ? EntrySeverity.Warning : EntrySeverity.Notice;

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Asks : null;
}

/// <summary>The program needs nobody any more for what it asked.</summary>
/// <param name="Said">What it says of that; null: nothing.</param>
public sealed record AnsweredEntry(RunNumber? Run, string? Said) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: Said);
    protected override string Sentence => $"It no longer asks for a person{(Said is { } said ? $": {said}" : ".")}";

    public override Topic? Ends => Topic.Asks;
}

public sealed record WatchesPausedEntry(TimeSpan For) : Entry
{
    protected override EntryFields Own => Fielded(limit: For);
    protected override string Sentence =>
        $"Its watches are paused for {Duration.Write(For)}: nothing is done about what they find.";
}

public sealed record WatchesResumedEntry : Entry
{
    protected override string Sentence => "Its watches count again.";
}

/// <summary>A command of <c>recover.then</c> was run.</summary>
/// <param name="Run">The run that failed last before it.</param>
/// <param name="Program">Its path, without its arguments.</param>
/// <param name="Came">What came of it, as a clause.</param>
public sealed record FollowedUpEntry(RunNumber Run, long Failures, string Program, TimeSpan Took, string Came) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, count: Failures, name: Program, took: Took, seen: Came);
    protected override string Sentence =>
        $"After {Failures} failure{(Failures == 1 ? "" : "s")} {Program} was run for {Length.Of(Took)}: {Came}.";
}

/// <param name="How">What was done, as a clause.</param>
/// <param name="Seen">What was seen after that, as a clause.</param>
public sealed record ReloadedEntry(RunNumber Run, string How, string Seen) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, name: How, seen: Seen);
    protected override string Sentence => $"It was told to read its settings anew: {How}. After that: {Seen}.";
}

public sealed record ReloadFailedEntry(RunNumber Run, string Why) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: Why);
    protected override string Sentence => $"It was to read its settings anew: {Why}.";
}

/// <summary>Somebody gave it a text on its input, or at its terminal; which is nowhere.</summary>
public sealed record InputGivenEntry(RunNumber Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Its program was given a text.";
}

/// <summary>Somebody sees its terminal from here on.</summary>
public sealed record TerminalJoinedEntry(RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Its terminal was joined.";
}

/// <summary>Somebody who sees its terminal began to type there; what is nowhere.</summary>
public sealed record TerminalTypedEntry(RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Keys were typed at its terminal.";
}

/// <param name="Took">How long it was seen.</param>
public sealed record TerminalLeftEntry(TimeSpan Took, bool HasTyped) : Entry
{
    protected override EntryFields Own => Fielded(took: Took, count: HasTyped ? 1 : 0);
    protected override string Sentence =>
        $"Its terminal was left after {Duration.Write(TimeSpan.FromSeconds(Math.Ceiling(Took.TotalSeconds)))}"
        + (HasTyped ? "." : ", without a key typed.");
}

internal static class RunningEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(
            f => new UnwellEntry(f.Run.Needed(), f.Seen, f.Took, f.Count, f.Name == UnwellEntry.Growing)
            {
                Next = f.Next,
            },
            EntrySeverity.Warning
        ),
        EntryKind.Of(f => new WellAgainEntry(f.Run.Needed(), f.Seen)),
        EntryKind.Of(f => new NeededLostEntry(f.Name.Needed(), f.Next), EntrySeverity.Warning),
        EntryKind.Of(f => new NeededBackEntry(f.Name.Needed())),
        EntryKind.Of(f => new OutputStuckEntry(f.Seen.Needed()), EntrySeverity.Error),
        EntryKind.Of(_ => new OutputFlowsEntry()),
        EntryKind.Of(f => new OutputLostEntry(f.Run.Needed(), f.Count.Needed()), EntrySeverity.Error),
        EntryKind.Of(f => new OutputDroppedEntry(f.Seen.Needed()), EntrySeverity.Error),
        EntryKind.Of(f => new OutputLetGoEntry(f.Count.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new OutputUnkeptEntry(f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new ReopenFailedEntry(f.Run.Needed(), f.Seen.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new SaysTooOftenEntry(f.Count.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new NotedEntry(f.Run, Words.To<NoteManner>(f.Name.Needed()), f.Seen.Needed(), f.Names)),
        EntryKind.Of(f => new AnsweredEntry(f.Run, f.Seen)),
        EntryKind.Of(f => new WatchesPausedEntry(f.Limit.Needed())),
        EntryKind.Of(_ => new WatchesResumedEntry()),
        EntryKind.Of(f => new FollowedUpEntry(
            f.Run.Needed(),
            f.Count ?? 1,
            f.Name.Needed(),
            f.Took.Needed(),
            f.Seen.Needed()
        )),
        EntryKind.Of(f => new InputGivenEntry(f.Run.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new TerminalJoinedEntry(f.Run)),
        EntryKind.Of(f => new TerminalTypedEntry(f.Run), EntrySeverity.Notice),
        EntryKind.Of(f => new TerminalLeftEntry(f.Took.Needed(), f.Count == 1)),
        EntryKind.Of(f => new ReloadedEntry(f.Run.Needed(), f.Name.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new ReloadFailedEntry(f.Run.Needed(), f.Seen.Needed()), EntrySeverity.Error),
    ];
}
