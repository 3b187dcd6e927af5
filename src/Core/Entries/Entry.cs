using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Entries;

/// <summary>What follows of itself from something that happened.</summary>
public enum EntryNext
{
    Nothing,

    /// <summary>Restarted after <see cref="Entry.Pause"/>.</summary>
    Restart,
    StaysStopped,

    /// <summary>It stays stopped, and what needs it is stopped.</summary>
    StopsDependents,
    Hold,

    /// <summary>It was tried while on hold, and is on hold again.</summary>
    HoldAgain,
    KeepsWaiting,
    GoesAhead,
    KeepsRunning,

    /// <summary>It is stopped and started again.</summary>
    StopAndRestart,

    /// <summary>It is killed and started again.</summary>
    KillAndRestart,
    NextStep,

    /// <summary>What is left of it is killed.</summary>
    Kill,

    /// <summary>It rests until its next moment.</summary>
    Rests,
}

/// <summary>
/// One thing that happened, as data: what kind, and its fields. Sentences are made of it where it is shown
/// (<see cref="EntryWords"/>), so that nothing ever has to read one.
/// </summary>
public sealed record Entry(EntryCode Code)
{
    public RunNumber? Run { get; init; }

    public int? Pid { get; init; }

    public Outcome? Outcome { get; init; }

    /// <summary>It ended before it was proven.</summary>
    public bool FailedStart { get; init; }

    /// <summary>The steps of its wind-down did not suffice.</summary>
    public bool Forced { get; init; }

    /// <summary>How long it took.</summary>
    public TimeSpan? Took { get; init; }

    /// <summary>How long it usually takes.</summary>
    public TimeSpan? Usual { get; init; }

    /// <summary>The limit it was to keep.</summary>
    public TimeSpan? Limit { get; init; }

    /// <summary>Until the next try.</summary>
    public TimeSpan? Pause { get; init; }

    /// <summary>The planned moment it is about.</summary>
    public DateTimeOffset? Moment { get; init; }

    /// <summary>How many: bad looks, failures, processes, bytes.</summary>
    public long? Count { get; init; }

    public int? Revision { get; init; }

    /// <summary>The name of what a watch found, where memory grows up to its limit.</summary>
    public const string MemoryGrows = "memory-grows";

    /// <summary>What it is about beside its service: another service, an account, a secret, a step, a path.</summary>
    public string? Name { get; init; }

    public ImmutableArray<string> Names { get; init; } = [];

    /// <summary>By what that is known again, where its name is what people call it: a need's.</summary>
    public string? About { get; init; }

    /// <summary>What was seen or answered by something outside, as a clause: evidence, never read by code.</summary>
    public string? Seen { get; init; }

    public ImmutableArray<DefinitionChange> Changes { get; init; } = [];

    /// <summary>Where whoever asked for it sat: <c>console</c>, or a terminal.</summary>
    public string? From { get; init; }

    public EntryNext Next { get; init; }

    /// <summary>The sentence of an earlier version, which kept no fields.</summary>
    public string? Text { get; init; }
}
