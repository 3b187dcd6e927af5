namespace CalmSentry.Contract.Api;

/// <summary>What new files a service is to get.</summary>
public sealed record SwapOrder
{
    /// <summary>Absolute path of a directory, or of an archive (tar, tar.gz, zip), on this host; null: an earlier version.</summary>
    public string? From { get; init; }

    /// <summary>Files that the new ones do not replace stay; else they go with the version before.</summary>
    public bool Over { get; init; }

    /// <summary>Instead of <see cref="From"/>: bring this earlier version back; 0: the one before the present.</summary>
    public long? Back { get; init; }

    /// <summary>Codes of findings to be overruled.</summary>
    public IReadOnlyList<string>? Accept { get; init; }

    /// <summary>stop: those that need it are stopped and started with it; leave: they keep running.</summary>
    public string? Dependents { get; init; }

    /// <summary>So long it must stay well, in milliseconds; null: as its definition says.</summary>
    public long? WatchMs { get; init; }
}

/// <summary>What a swap would change.</summary>
public sealed record SwapPlan
{
    public required string Service { get; init; }

    /// <summary>The directory that is exchanged.</summary>
    public required string Directory { get; init; }

    /// <summary>The number of the files there are, and that of the new ones.</summary>
    public required long Before { get; init; }

    public required long Version { get; init; }

    /// <summary>Where the new files come from, without links.</summary>
    public required string Source { get; init; }

    public required FileList Added { get; init; }

    public required FileList Changed { get; init; }

    /// <summary>Files that are not among the new ones: they go with the version before.</summary>
    public required FileList Gone { get; init; }

    /// <summary>Files that are the same in both.</summary>
    public required int Same { get; init; }

    /// <summary>What stays as it is, because the definition says that it is data.</summary>
    public required IReadOnlyList<string> Data { get; init; }

    /// <summary>What of the new files was left out, because it is data here.</summary>
    public required IReadOnlyList<string> LeftOut { get; init; }

    /// <summary>Rights that files of the same path have now and the new ones do not get: others than root can write where they lie.</summary>
    public required FileList GivenUp { get; init; }

    /// <summary>The account whose <see cref="Source"/> is; null: an earlier version.</summary>
    public required string? SourceOwner { get; init; }

    /// <summary>Where an earlier sentry kept versions, and something is left that no service knows; null: nowhere.</summary>
    public required string? EarlierPlace { get; init; }

    /// <summary>Bytes of the new files, and how many there is room for.</summary>
    public required long Bytes { get; init; }

    public required long Room { get; init; }

    /// <summary>Who else uses the directory, a clause each.</summary>
    public required IReadOnlyList<string> UsedBy { get; init; }

    /// <summary>What is stopped for it, in a sentence.</summary>
    public required string Interrupts { get; init; }

    public required long WatchMs { get; init; }

    /// <summary>What was seen when the new files were looked at, as the account.</summary>
    public required IReadOnlyList<FindingView> Findings { get; init; }
}

/// <param name="Count">All there are.</param>
/// <param name="Paths">The first of them, from the directory.</param>
public sealed record FileList(int Count, IReadOnlyList<string> Paths);

/// <summary>
/// One line of a swap's live answer (newline-delimited JSON): a note, what it will change, why it is refused, or at the end what
/// came of it.
/// </summary>
public sealed record SwapEvent
{
    public string? Text { get; init; }

    public SwapPlan? Plan { get; init; }

    public Problem? Refused { get; init; }

    public Answer? Answer { get; init; }
}

/// <summary>Versions of a program's files.</summary>
/// <param name="Directory">Where they lie, if that can be told.</param>
/// <param name="UnderWay">What a swap is at, as a clause; null: none is under way.</param>
/// <param name="Versions">The latest first; none before the first swap.</param>
public sealed record VersionsView(
    string? Directory,
    string? UnderWay,
    int Keeps,
    IReadOnlyList<string> Data,
    IReadOnlyList<VersionView> Versions
);

/// <param name="Number">Counted from 1.</param>
/// <param name="At">When it was put in; null: it was there before the first swap.</param>
/// <param name="By">Who put it in.</param>
/// <param name="Source">Where it came from.</param>
/// <param name="Present">It is in place.</param>
/// <param name="Kept">It can be brought back.</param>
/// <param name="Failed">Why it did not stay, as a clause.</param>
/// <param name="Runs">So many runs had it.</param>
public sealed record VersionView(
    long Number,
    DateTimeOffset? At,
    string? By,
    string? Source,
    bool Present,
    bool Kept,
    string? Failed,
    long Runs
);
