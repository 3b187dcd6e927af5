using System.Collections.Immutable;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// What the machine did

public sealed record BootBeganEntry : Entry
{
    protected override string Sentence => "The machine came up.";
}

/// <param name="Why">Of all services, by what nothing was to be started; null: of one service.</param>
public sealed record BootHeldBackEntry(string? Why = null) : Entry
{
    protected override EntryFields Own => Fielded(seen: Why);
    protected override string Sentence =>
        "The machine came up, and nothing was to be started with it: it stays stopped until somebody starts it.";
}

public sealed record DrillBeganEntry : Entry
{
    protected override string Sentence => "A drill starts it as a boot would.";
}

public sealed record BootNotSettledEntry(TimeSpan Limit) : Entry
{
    protected override EntryFields Own => Fielded(limit: Limit);
    protected override string Sentence =>
        $"Not everything that starts at boot was ready within {Duration.Write(Limit)}; it starts anyway.";
}

/// <summary>A run that went with the machine, or that ended unseen.</summary>
public sealed record LostEntry(RunNumber Run, Outcome Outcome) : Entry
{
    protected override EntryFields Own => Fielded(run: Run, outcome: Outcome);
    protected override string Sentence => $"Run {Run} {OutcomeWords.Of(Outcome)}.";
}

public sealed record NumbersPassedOverEntry(RunNumber UpTo) : Entry
{
    protected override EntryFields Own => Fielded(run: UpTo);
    protected override string Sentence =>
        $"What was done last may have been lost with the machine or the run directory, or an older store was put back: numbers of runs up to {UpTo} are left out.";
}

internal static class MachineEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(_ => new BootBeganEntry()),
        EntryKind.Of(f => new BootHeldBackEntry(f.Seen)),
        EntryKind.Of(_ => new DrillBeganEntry()),
        EntryKind.Of(f => new BootNotSettledEntry(f.Limit.Needed()), EntrySeverity.Warning),
        EntryKind.Of(f => new LostEntry(f.Run.Needed(), f.Outcome.Needed()), EntrySeverity.Error),
        EntryKind.Of(f => new NumbersPassedOverEntry(f.Run.Needed())),
    ];
}
