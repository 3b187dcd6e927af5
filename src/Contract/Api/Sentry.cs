using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Contract.Api;

/// <summary>The sentry itself.</summary>
public sealed record SentryView
{
    public required string Version { get; init; }

    public required string Host { get; init; }

    public required int Pid { get; init; }

    public required DateTimeOffset Since { get; init; }

    /// <summary>Account the sentry runs as.</summary>
    public required string Account { get; init; }

    /// <summary>Directory all its places lie under; / on an installed host.</summary>
    public required string Root { get; init; }

    /// <summary>Address of the console.</summary>
    public required string Console { get; init; }

    /// <summary>Process id of the guard that starts the sentry again when it ends, or null.</summary>
    public int? Guard { get; init; }

    /// <summary>It is registered with the machine's boot.</summary>
    public required bool StartsWithMachine { get; init; }

    /// <summary>What this host or account does not allow, in sentences.</summary>
    public required IReadOnlyList<string> Limits { get; init; }

    /// <summary>Who is asking.</summary>
    public required string You { get; init; }
}

/// <summary>Whether the logbook is as it was written.</summary>
/// <param name="Holds">Every entry follows from the one before it.</param>
/// <param name="Entries">Entries that are there.</param>
/// <param name="Emptied">Entries whose content was dropped as too much, and whose digest was kept.</param>
/// <param name="Last">Number of the last one.</param>
/// <param name="Head">Its hash, SHA-256 in hexadecimal: kept elsewhere, it shows later whether anything before it was changed.</param>
/// <param name="BrokenAt">Number of the first entry that does not fit.</param>
/// <param name="Why">What does not fit, as a clause.</param>
public sealed record LogProofView(
    bool Holds,
    long Entries,
    long Emptied,
    long Last,
    string Head,
    long? BrokenAt,
    string? Why
);

/// <summary>One entry of the logbook: what happened, as data, and the sentence made of it.</summary>
/// <param name="Code">What kind, a word of a closed list: <c>launched</c>, <c>fell</c>, <c>stop-asked</c> …; other: of an
/// earlier version, as a sentence only.</param>
/// <param name="Text">The sentence for people. Programs go by the code and the fields.</param>
/// <param name="By">Who asked, or null when the sentry acted by itself.</param>
/// <param name="Tells">Somebody was to hear of it.</param>
public sealed record LogEntry(
    long Id,
    DateTimeOffset At,
    string? Service,
    string Code,
    string Text,
    string? By,
    bool Tells = false
)
{
    /// <summary>Where whoever asked sat: <c>console</c>, or a terminal and the host it came in from; null: not known, or
    /// nobody asked.</summary>
    public string? From { get; init; }

    /// <summary>How bad it is (RFC 5424, section 6.2.1).</summary>
    public EntrySeverity? Severity { get; init; }

    /// <summary>The run it is about.</summary>
    public long? Run { get; init; }

    public int? Pid { get; init; }

    /// <summary>How the run ended.</summary>
    public OutcomeKind? Outcome { get; init; }

    /// <summary>The exit code, or the number of the signal.</summary>
    public int? ExitCode { get; init; }

    /// <summary>How long it took, in milliseconds.</summary>
    public double? TookMs { get; init; }

    /// <summary>The limit it was to keep, in milliseconds.</summary>
    public double? LimitMs { get; init; }

    /// <summary>Until the next try, in milliseconds.</summary>
    public double? PauseMs { get; init; }

    /// <summary>How many: failures, bad looks, processes, bytes.</summary>
    public long? Count { get; init; }

    public int? Revision { get; init; }

    /// <summary>What it is about beside its service: another service, an account, a secret, a step.</summary>
    public string? About { get; init; }

    /// <summary>What was seen or answered by something outside, as a clause.</summary>
    public string? Seen { get; init; }

    /// <summary>What follows of itself.</summary>
    public EntryNext? Next { get; init; }
}

/// <summary>A link that signs a browser in, once.</summary>
public sealed record SignInLink(string Address, DateTimeOffset Until);

/// <summary>A browser that is signed in.</summary>
/// <param name="Id">Names it; opens nothing.</param>
/// <param name="Agent">What the browser said of itself.</param>
/// <param name="Until">When it ends at the latest.</param>
/// <param name="Yours">It is the one that asks.</param>
public sealed record SessionView(
    string Id,
    string Account,
    string Agent,
    DateTimeOffset Opened,
    DateTimeOffset Used,
    DateTimeOffset Until,
    bool Yours
);

/// <summary>Problem Details (RFC 9457) as this API sends them.</summary>
/// <param name="Code">Why, for programs.</param>
/// <param name="Next">What to do about it.</param>
/// <param name="Errors">What exactly is wrong, one entry a mistake or finding.</param>
public sealed record Problem(
    string Title,
    int Status,
    string Detail,
    ProblemWord Code,
    string? Next = null,
    IReadOnlyList<Mistake>? Errors = null,
    string Type = "about:blank"
);
