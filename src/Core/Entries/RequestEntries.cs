using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// What somebody asked for

public sealed record WrappedEntry(string Program, string Account) : Entry
{
    protected override EntryFields Own => Fielded(seen: Program, name: Account);
    protected override string Sentence => $"Wrapped: {Program}, to run as {Account}.";
}

/// <param name="Instead">What is said instead of the changes.</param>
public sealed record AdjustedEntry(int Revision, ImmutableArray<DefinitionChange> Changes, string? Instead = null)
    : Entry
{
    protected override EntryFields Own => Fielded(revision: Revision, changes: Changes, seen: Instead);
    protected override string Sentence =>
        $"Revision {Revision}: {Instead ?? (Changes.IsEmpty ? "no effective change" : string.Join("; ", Changes))}.";
}

public sealed record RenamedEntry(string Was, int Revision) : Entry
{
    protected override EntryFields Own => Fielded(name: Was, revision: Revision);
    protected override string Sentence => $"Renamed, revision {Revision}: until now it was called {Was}.";
}

/// <param name="Finding">The word of a finding of a check.</param>
/// <param name="Seen">Sentences.</param>
public sealed record AcceptedEntry(string Finding, string Seen) : Entry
{
    protected override EntryFields Own => Fielded(name: Finding, seen: Seen);
    protected override string Sentence => $"{Finding} was accepted: {Seen}";
}

/// <param name="Next">It goes ahead without its needs, or keeps waiting for its stop.</param>
public sealed record StartAskedEntry(EntryNext Next = EntryNext.Nothing) : Entry
{
    protected override EntryFields Own => Fielded(next: Next);
    protected override string Sentence =>
        Next switch
        {
            EntryNext.GoesAhead => "Start requested, without waiting for its needs.",
            EntryNext.KeepsWaiting => "Start requested; it follows as soon as the stop is done.",
            _ => "Start requested.",
        };
}

/// <param name="Why">A sentence; null: starting is disabled.</param>
public sealed record StartRefusedEntry(string? Why = null) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence => $"Not started: {Why ?? "starting is disabled (begin.at: never)."}";
}

/// <param name="Run">Null: it was not running.</param>
public sealed record StopAskedEntry(RunNumber? Run = null) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => Run is null ? "Stop requested; it was not running." : "Stop requested.";
}

public sealed record RestartAskedEntry(RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Restart requested.";
}

public sealed record ReleasedEntry : Entry
{
    protected override string Sentence => "Released from its hold; it is started again.";
}

public sealed record ForceAskedEntry(RunNumber? Run) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence => "Its time to stop is over: what is left of it is killed.";
}

/// <param name="Run">Null: it was not running.</param>
public sealed record UnwrapAskedEntry(RunNumber? Run = null) : Entry
{
    protected override EntryFields Own => Fielded(run: Run);
    protected override string Sentence =>
        Run is null ? "Unwrap requested; it was not running." : "Unwrap requested; it is stopped first.";
}

public sealed record UnwrappedEntry : Entry
{
    protected override string Sentence => "Unwrapped: nothing of it is registered any more.";
}

public sealed record RehearsedEntry(string Account, TimeSpan Longest) : Entry
{
    protected override EntryFields Own => Fielded(name: Account, limit: Longest);
    protected override string Sentence => $"Rehearsed as {Account}, for at most {Duration.Write(Longest)}.";
}

/// <param name="Copy">What it is, as a clause.</param>
public sealed record CopyEndingEntry(int? Pid, string Copy) : Entry
{
    protected override EntryFields Own => Fielded(pid: Pid, seen: Copy);
    protected override string Sentence => $"A copy outside the sentry is asked to end: {Copy}.";
}

public sealed record CopyEndedEntry(int? Pid) : Entry
{
    protected override EntryFields Own => Fielded(pid: Pid);
    protected override string Sentence => $"The copy outside the sentry (pid {Pid}) has ended.";
}

internal static class RequestEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(f => new WrappedEntry(f.Seen.Needed(), f.Name.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new AdjustedEntry(f.Revision.Needed(), f.Changes, f.Seen), EntrySeverity.Notice),
        EntryKind.Of(f => new RenamedEntry(f.Name.Needed(), f.Revision.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new AcceptedEntry(f.Name.Needed(), f.Seen.Needed())),
        EntryKind.Of(f => new StartAskedEntry(f.Next)),
        EntryKind.Of(f => new StartRefusedEntry(f.Seen)),
        EntryKind.Of(f => new StopAskedEntry(f.Run)),
        EntryKind.Of(f => new RestartAskedEntry(f.Run)),
        EntryKind.Of(_ => new ReleasedEntry()),
        EntryKind.Of(f => new ForceAskedEntry(f.Run)),
        EntryKind.Of(f => new UnwrapAskedEntry(f.Run)),
        EntryKind.Of(_ => new UnwrappedEntry(), EntrySeverity.Notice),
        EntryKind.Of(f => new RehearsedEntry(f.Name.Needed(), f.Limit.Needed())),
        EntryKind.Of(f => new CopyEndingEntry(f.Pid, f.Seen.Needed())),
        EntryKind.Of(f => new CopyEndedEntry(f.Pid)),
    ];
}
