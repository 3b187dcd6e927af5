using System.Collections.Immutable;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Entries;

// New program files. Versions are stored and sent as they were when there were only counts and names.

public sealed record SwapBeganEntry(long Version, string Source, string Before) : Entry
{
    protected override EntryFields Own => Fielded(count: Version, name: Source, seen: Before);
    protected override string Sentence =>
        $"Version {Version} of its files, from {Source}, is put in; until now it has version {Before}.";
}

/// <param name="WellFor">It was watched for so long; null: it was not.</param>
public sealed record SwappedEntry(long Version, string Before, TimeSpan? WellFor) : Entry
{
    protected override EntryFields Own => Fielded(count: Version, name: Before, limit: WellFor);
    protected override string Sentence =>
        $"It has version {Version} of its files"
        + (WellFor is { } well ? $", and stayed well for {Length.Of(well)}" : "")
        + $"; version {Before} is kept.";
}

/// <summary>The files before have come back.</summary>
/// <param name="Run">The run that failed with the new ones; null: none ran with them.</param>
/// <param name="Why">As a clause.</param>
public sealed record SwapReturnedEntry(long Version, string Before, RunNumber? Run, string Why) : Entry
{
    protected override EntryFields Own => Fielded(count: Version, name: Before, run: Run, seen: Why);
    protected override string Sentence =>
        $"It keeps version {Before} of its files"
        + (Run is null ? $", and does not get version {Version}: {Why}." : $": with version {Version} {Why}.");

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.SwapFailed : null;
}

/// <summary>It does not run after a swap, though it was to.</summary>
/// <param name="Version">The one that lies there; null: what lies there is not known to be of one version.</param>
/// <param name="Down">Why it does not run, as a clause.</param>
/// <param name="Why">What was wrong with the new version, as a clause.</param>
public sealed record SwapDownEntry(long? Version, string Down, string? Why) : Entry
{
    protected override EntryFields Own => Fielded(count: Version, seen: Down, name: Why);
    protected override string Sentence =>
        Version is { } version
            ? $"It has version {version} of its files, but does not run: {Down}."
            : $"It does not run, and its files are not known to be of one version: {Down}.";

    public override Topic? TopicIf(bool tells, bool isJob) => tells ? Topic.SwapFailed : null;
}

internal static class SwapEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(f => new SwapBeganEntry(f.Count.Needed(), f.Name.Needed(), f.Seen.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new SwappedEntry(f.Count.Needed(), f.Name.Needed(), f.Limit), EntrySeverity.Notice),
        EntryKind.Of(
            f => new SwapReturnedEntry(f.Count.Needed(), f.Name.Needed(), f.Run, f.Seen.Needed()),
            EntrySeverity.Error
        ),
        EntryKind.Of(f => new SwapDownEntry(f.Count, f.Seen.Needed(), f.Name), EntrySeverity.Error),
    ];
}
