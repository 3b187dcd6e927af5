namespace CalmSentry.Store;

/// <summary>What came of following the logbook's chain from its beginning to its end.</summary>
/// <param name="Entries">Entries in it.</param>
/// <param name="Emptied">Entries of which only the digest was kept; their content was dropped as too much.</param>
/// <param name="Last">The number of the last entry; 0: there is none.</param>
/// <param name="Head">The hash of the last entry, in hexadecimal.</param>
/// <param name="BrokenAt">The first entry that does not fit; null: all do.</param>
/// <param name="Why">What does not fit, as a clause; null: all does.</param>
public sealed record LogProof(long Entries, long Emptied, long Last, string Head, long? BrokenAt, string? Why);

/// <summary>Which entries of the logbook are asked for: those that fit everything given.</summary>
/// <param name="Last">So many of them, the latest.</param>
public sealed record LogQuery(int Last)
{
    public Core.Lifecycle.ServiceId? Service { get; init; }

    /// <summary>The name their service had then: of one that is no more.</summary>
    public string? Name { get; init; }

    public IReadOnlyList<Core.Entries.EntryKind> Kinds { get; init; } = [];

    /// <summary>Who asked, by account; of somebody who became another account, either.</summary>
    public string? By { get; init; }

    public DateTimeOffset? Since { get; init; }

    public DateTimeOffset? Until { get; init; }

    /// <summary>In the sentence that is made of it, whatever its letters' case.</summary>
    public string? Text { get; init; }

    /// <summary>As bad as this, or worse.</summary>
    public Core.Entries.EntrySeverity? Severity { get; init; }

    /// <summary>Only with a later number than this.</summary>
    public long? After { get; init; }

    /// <summary>None with this number or a later one.</summary>
    public long? Before { get; init; }
}
