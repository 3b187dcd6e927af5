using System.Collections.Immutable;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Store;

/// <param name="Document">The definition as given, as JSON; not yet looked at.</param>
/// <param name="Situation">Where it stands; null: what is stored of that cannot be read.</param>
/// <param name="Saved">The reading of both clocks by which its moments are told; null: of an earlier version.</param>
public sealed record StoredService(
    ServiceId Id,
    string Name,
    int Revision,
    string Document,
    Situation? Situation,
    ClockStamp? Saved = null
);

/// <param name="Number">Counts up; the order in which things happened.</param>
/// <param name="Service">The name of the service it is about, as it was then; null: it is about the sentry.</param>
/// <param name="By">Who asked; null: nobody.</param>
/// <param name="Tells">A person is to hear of it.</param>
public sealed record StoredEntry(long Number, DateTimeOffset At, string? Service, Entry Entry, string? By, bool Tells);

public sealed record StoredRun(
    RunNumber Number,
    string Cause,
    DateTimeOffset Began,
    DateTimeOffset? Launched,
    DateTimeOffset? Ended,
    int? Pid,
    Outcome? Outcome,
    long? PeakKib,
    long? CpuMicroseconds,
    DateTimeOffset? Wanted,
    DateTimeOffset? Proven,
    string? Proof,
    string? BegunBy,
    string? EndedBy,
    bool Bad,
    bool Forced,
    long? OutputBytes,
    TimeSpan? Stopping,
    ImmutableArray<StepTaken> Steps,
    FallEvidence? Evidence,
    long? Version
);

/// <summary>All files of a program in one state.</summary>
/// <param name="Number">Counted from 1, for each service by itself.</param>
/// <param name="At">When it was put in; null: it was there before the first swap.</param>
/// <param name="Source">Where it came from.</param>
/// <param name="Directory">The directory it belongs into.</param>
/// <param name="Identity">Of the directory with its files (<c>FileVersion.Identity</c>).</param>
/// <param name="Failed">Why it did not stay, as a clause.</param>
/// <param name="Runs">So many runs on record had it.</param>
public sealed record StoredVersion(
    long Number,
    DateTimeOffset? At,
    string? By,
    string? Source,
    string Directory,
    string Identity,
    bool Present,
    string? Failed = null,
    long Runs = 0
);

/// <summary>How a run ended, with all that is kept of it.</summary>
/// <param name="By">Who or what ended it.</param>
/// <param name="OutputTo">Where its output ends in the output file, in bytes.</param>
/// <param name="Stopping">Of a run that was stopped: how long that took.</param>
/// <param name="Well">It was proven, and did not end badly or was up for a steady time.</param>
public sealed record RunEnding(
    Outcome Outcome,
    DateTimeOffset At,
    string? By,
    long? PeakKib = null,
    long? CpuMicroseconds = null,
    long? OutputTo = null,
    TimeSpan? Stopping = null,
    LastEnd? End = null,
    bool Well = false
);

/// <summary>A moment at which a service turned: another state, another health, or its time counts otherwise.</summary>
/// <param name="Revision">Of the definition it stood by; null: of an earlier version, which kept sentences.</param>
/// <param name="Situation">Where it stood, whole; null: of an earlier version.</param>
/// <param name="Why">Of an earlier version: the explanation as it was given then.</param>
/// <param name="Next">Of an earlier version: what was to come then, one a line.</param>
public sealed record StoredMoment(
    DateTimeOffset At,
    string State,
    string Health,
    ServiceTime Time,
    int? Revision,
    Situation? Situation,
    string? Why = null,
    string? Next = null
);

/// <summary>How an earlier stop of a service went.</summary>
/// <param name="Took">From the word to stop to the end of its tree.</param>
/// <param name="Forced">The steps did not suffice.</param>
/// <param name="Revision">Of the definition it went by.</param>
/// <param name="Failed">The first of its steps that could not be taken; null: all could.</param>
public readonly record struct StoredStop(TimeSpan Took, bool Forced, int Revision, StepTaken? Failed);

public sealed record StoredAccount(string Name, bool Permitted, bool Made);

/// <param name="Hash">Of the cookie's secret.</param>
/// <param name="PageHash">Of the page's secret.</param>
/// <param name="Id">A short name that opens nothing, to end it by.</param>
/// <param name="Agent">What the browser said of itself.</param>
public sealed record StoredSession(
    string Hash,
    string PageHash,
    string Id,
    string Account,
    string Agent,
    DateTimeOffset Opened,
    DateTimeOffset Used,
    DateTimeOffset Until
);

/// <param name="How">list; of earlier sentries acl or group</param>
/// <param name="Before">What is needed to take it back: the folder's identity, and the access lists that were
/// there.</param>
/// <param name="Folder">The folder the grant was asked for; folders above it were opened on the way.</param>
public sealed record StoredGrant(string Account, string Path, string How, string Before, string Folder);

/// <param name="PeakBytes">Most memory its tree used.</param>
public sealed record StoredRehearsal(long PeakBytes, IReadOnlyList<int> TcpPorts);

/// <summary>How the runs of a job went in a time.</summary>
/// <param name="Failed">Runs, each try of them.</param>
/// <param name="Missed">Moments that nobody was there for.</param>
/// <param name="Usual">Median of those that were done; null: none was.</param>
public sealed record JobFigures(long Done, long Failed, long Missed, long Late, TimeSpan? Usual, TimeSpan? Longest);
