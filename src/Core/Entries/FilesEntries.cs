using System.Collections.Immutable;

namespace CalmSentry.Core.Entries;

// Bringing the machine to files.

/// <param name="Number">Of the settling.</param>
/// <param name="Directory">Where the files lie; null: nobody said.</param>
/// <param name="Head">Their revision under version control.</param>
/// <param name="Back">The number of the one that is undone.</param>
public sealed record SettleBeganEntry(int Number, int? Back, string? Directory, string? Head, long Steps) : Entry
{
    protected override EntryFields Own =>
        Fielded(revision: Number, name: Directory, about: Head, count: Steps, seen: Back?.ToString(Plain));
    protected override string Sentence =>
        (
            Back is { } back
                ? $"Settling {Number}: what settling {back} did is undone"
                : $"Settling {Number}: the machine is brought to the files"
        )
        + (Directory is { } place ? $" of {place}" : "")
        + (Head is { } head ? $" ({head})" : "")
        + $", in {Steps} {(Steps == 1 ? "step" : "steps")}.";

    internal static readonly System.Globalization.CultureInfo Plain = System.Globalization.CultureInfo.InvariantCulture;
}

/// <param name="Why">What failed, as sentences; null: all is done.</param>
public sealed record SettleEndedEntry(int Number, string? Why) : Entry
{
    protected override EntryFields Own => Fielded(revision: Number, seen: Why);
    protected override string Sentence =>
        Why is null ? $"Settling {Number} is done." : $"Settling {Number} has stopped: {Why}";
}

/// <summary>A server before has begun it; this one goes on.</summary>
public sealed record SettleTakenUpEntry(int Number) : Entry
{
    protected override EntryFields Own => Fielded(revision: Number);
    protected override string Sentence => $"Settling {Number}, which was under way, goes on.";
}

/// <summary>A service is not as its files say any more.</summary>
/// <param name="Directory">Where the files lie; null: nobody said.</param>
/// <param name="Keys">What differs.</param>
public sealed record ApartEntry(string? Directory, ImmutableArray<string> Keys) : Entry
{
    private const int Named = 5;

    protected override EntryFields Own => Fielded(name: Directory, names: Keys);
    protected override string Sentence =>
        $"It differs from its files{(Directory is { } place ? $" in {place}" : "")}: {Listed([.. Keys.Take(Named)])}"
        + (Keys.Length > Named ? $" and {Keys.Length - Named} more." : ".");

    public override Topic? TopicIf(bool tells, bool isJob) => Topic.Apart;
}

public sealed record AsFilesEntry : Entry
{
    protected override string Sentence => "It is as its files say again.";

    public override Topic? Ends => Topic.Apart;
}

internal static class FilesEntries
{
    public static ImmutableArray<EntryKind> Kinds { get; } =
    [
        EntryKind.Of(
            f => new SettleBeganEntry(
                f.Revision.Needed(),
                int.TryParse(f.Seen, SettleBeganEntry.Plain, out var back) ? back : null,
                f.Name,
                f.About,
                f.Count.Needed()
            ),
            EntrySeverity.Notice
        ),
        EntryKind.Of(f => new SettleEndedEntry(f.Revision.Needed(), f.Seen), EntrySeverity.Notice),
        EntryKind.Of(f => new SettleTakenUpEntry(f.Revision.Needed()), EntrySeverity.Notice),
        EntryKind.Of(f => new ApartEntry(f.Name, f.Names), EntrySeverity.Notice),
        EntryKind.Of(_ => new AsFilesEntry()),
    ];
}
