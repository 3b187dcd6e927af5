using System.Collections.Immutable;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// While it runs

/// <summary>What a watch finds poor.</summary>
public enum UnwellOf
{
    Health,

    /// <summary>As its memory grows, it reaches its limit soon.</summary>
    Memory,

    /// <summary>It asks at its terminal.</summary>
    Question,

    /// <summary>It asks in a window.</summary>
    Dialog,
}

/// <param name="Seen">What a watch found, as a clause.</param>
/// <param name="Lasting">For how long it has, where that is what counts.</param>
/// <param name="Looks">How often in a row.</param>
public sealed record UnwellEntry(RunNumber Run, string? Seen, TimeSpan? Lasting, long? Looks, UnwellOf Of) : Entry
{
    /// <summary>The words that are stored for what it is of.</summary>
    private const string Growing = "memory-grows",
        AsksAtTerminal = "asks",
        AsksInWindow = "asks-in-window";

    internal static UnwellOf Read(string? name) =>
        name switch
        {
            Growing => UnwellOf.Memory,
            AsksAtTerminal => UnwellOf.Question,
            AsksInWindow => UnwellOf.Dialog,
            _ => UnwellOf.Health,
        };

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
        Fielded(run: Run, seen: Seen, took: Lasting, count: Looks, name: Word, next: Next);

    private string? Word =>
        Of switch
        {
            UnwellOf.Memory => Growing,
            UnwellOf.Question => AsksAtTerminal,
            UnwellOf.Dialog => AsksInWindow,
            _ => null,
        };

    protected override string Sentence => $"Health poor: {Found}. {Next.InWords()}".TrimEnd();

    public override AskedAt? Asks =>
        Of switch
        {
            UnwellOf.Question => AskedAt.Terminal,
            UnwellOf.Dialog => AskedAt.Window,
            _ => null,
        };

    public override Topic? TopicIf(bool tells, bool isJob) =>
        Of switch
        {
            UnwellOf.Memory when Next == EntryNext.Nothing => Topic.Memory,
            _ when !tells => null,
            UnwellOf.Memory => Topic.Memory,
            UnwellOf.Question or UnwellOf.Dialog => Topic.Asks,
            _ => Topic.Poor,
        };
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

/// <summary>The display that it shows its windows on ended.</summary>
/// <param name="Why">How, as a clause; null: that is not known.</param>
public sealed record DisplayFellEntry(RunNumber Run, string? Why) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: Why);
    protected override string Sentence =>
        $"The display that it shows its windows on is gone{(Why is null ? "" : $" ({Why})")}: it is stopped, and starts again with a new one. "
        + "That is no failure of its own.";
}

/// <summary>Where a program asks somebody.</summary>
public enum AskedAt
{
    Terminal = 1,
    Window = 2,
}

/// <summary>What a program asks, in words.</summary>
public static class Asked
{
    /// <summary>As a clause without its subject: <c>asks at its terminal: 'Overwrite? [y/N]'</c>.</summary>
    /// <param name="text">Of a terminal, what it has written after its last line end, empty where it draws its whole screen; of a
    /// window, its title.</param>
    public static string InWords(string text, AskedAt at) =>
        (at, text.Trim()) switch
        {
            (AskedAt.Window, "") => "asks in a window without a title",
            (AskedAt.Window, var title) => $"asks in a window: '{Shown.Line(title)}'",
            (_, "") => "waits for keys at its terminal, on a screen that it draws",
            (_, var asked) => $"asks at its terminal: '{Shown.Line(asked)}'",
        };
}

/// <param name="What">What it probably asks, as <see cref="Asked"/> takes it.</param>
/// <param name="Most">It is known, and was answered so often, as often as may be; null: nobody knows it.</param>
public sealed record QuestionEntry(RunNumber Run, string What, long? Most) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: What, count: Most);
    protected override string Sentence =>
        $"It probably {Asked.InWords(What, AskedAt.Terminal)}."
        + (
            Most is { } most
                ? $" That was answered {(most == 1 ? "once" : $"{most} times")}, as often as it may be."
                : ""
        );

    public override AskedAt? Asks => AskedAt.Terminal;

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.Asks : null;
}

/// <summary>What it asked at its terminal, nobody knows whom, it does not ask any more.</summary>
public sealed record QuestionOverEntry(RunNumber Run, TimeSpan Took) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, took: Took);
    protected override string Sentence => $"It no longer asks at its terminal, after {Length.Of(Took)}.";

    public override AskedAt? Asks => AskedAt.Terminal;

    public override Topic? Ends => Topic.Asks;
}

/// <param name="What">The title of a dialog that it has open.</param>
public sealed record DialogEntry(RunNumber Run, string What) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: What);
    protected override string Sentence => $"It probably {Asked.InWords(What, AskedAt.Window)}.";

    public override AskedAt? Asks => AskedAt.Window;
}

/// <summary>The dialog that it had open is gone.</summary>
public sealed record DialogOverEntry(RunNumber Run, TimeSpan Took) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, took: Took);
    protected override string Sentence => $"It no longer asks in a window, after {Length.Of(Took)}.";

    public override AskedAt? Asks => AskedAt.Window;

    public override Topic? Ends => Topic.Asks;
}

/// <summary>A known question was given its answer; which is nowhere.</summary>
public sealed record QuestionAnsweredEntry(RunNumber Run, string What) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, seen: What);
    protected override string Sentence => $"It asked '{What.Trim()}' at its terminal, and was given its answer.";
}

/// <summary>Somebody sees its window from here on.</summary>
public sealed record WindowJoinedEntry(RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Its window was joined.";
}

/// <summary>Somebody who sees its window began to act there, by pointer or keys; what is nowhere.</summary>
public sealed record WindowActedEntry(RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Somebody acted at its window.";
}

/// <param name="Took">How long it was seen.</param>
public sealed record WindowLeftEntry(TimeSpan Took, bool HasActed) : Entry
{
    protected override EntryFields Own => Fielded(took: Took, count: HasActed ? 1 : 0);
    protected override string Sentence =>
        $"Its window was left after {Duration.Write(TimeSpan.FromSeconds(Math.Ceiling(Took.TotalSeconds)))}"
        + (HasActed ? "." : ", without acting.");
}

internal static class RunningEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(
            f => new UnwellEntry(f.Run.Needed(), f.Seen, f.Took, f.Count, UnwellEntry.Read(f.Name)) { Next = f.Next },
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
        EntryKind.Of(f => new DisplayFellEntry(f.Run.Needed(), f.Seen), EntrySeverity.Warning),
        EntryKind.Of(f => new QuestionEntry(f.Run.Needed(), f.Seen ?? "", f.Count), EntrySeverity.Notice),
        EntryKind.Of(f => new QuestionOverEntry(f.Run.Needed(), f.Took.Needed())),
        EntryKind.Of(f => new DialogEntry(f.Run.Needed(), f.Seen ?? ""), EntrySeverity.Notice),
        EntryKind.Of(f => new DialogOverEntry(f.Run.Needed(), f.Took.Needed())),
        EntryKind.Of(f => new QuestionAnsweredEntry(f.Run.Needed(), f.Seen.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new InputGivenEntry(f.Run.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new TerminalJoinedEntry(f.Run)),
        EntryKind.Of(f => new TerminalTypedEntry(f.Run), EntrySeverity.Notice),
        EntryKind.Of(f => new TerminalLeftEntry(f.Took.Needed(), f.Count == 1)),
        EntryKind.Of(f => new WindowJoinedEntry(f.Run)),
        EntryKind.Of(f => new WindowActedEntry(f.Run), EntrySeverity.Notice),
        EntryKind.Of(f => new WindowLeftEntry(f.Took.Needed(), f.Count == 1)),
        EntryKind.Of(f => new ReloadedEntry(f.Run.Needed(), f.Name.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new ReloadFailedEntry(f.Run.Needed(), f.Seen.Needed()), EntrySeverity.Error),
    ];
}
