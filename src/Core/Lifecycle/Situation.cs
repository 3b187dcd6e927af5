using System.Collections.Immutable;

namespace CalmSentry.Core.Lifecycle;

/// <summary>The state shown to people.</summary>
public enum Phase
{
    Stopped,
    Waiting,
    Starting,
    Running,
    Stopping,
    Resting,
    Held,
}

/// <summary>What made a run begin.</summary>
public enum Cause
{
    Asked,
    Boot,
    Recovery,
}

/// <summary>What happens once the present run has been stopped.</summary>
public enum Afterwards
{
    Rest,
    StartAgain,
    Leave,

    /// <summary>Nobody asked for this end (only the rest of the tree is being ended): recovery decides.</summary>
    Recover,
}

/// <summary>Where one service stands. The whole of what the decisions need besides the definition; kept as it is in the store.</summary>
public sealed record Situation
{
    public Phase Phase { get; init; } = Phase.Stopped;

    /// <summary>Since when the phase holds.</summary>
    public required DateTimeOffset Since { get; init; }

    /// <summary>The highest run number ever used; 0 before the first.</summary>
    public long LastRun { get; init; }

    /// <summary>The one run there is, from its launch to the end of its tree.</summary>
    public LiveRun? Run { get; init; }

    /// <summary>When the next decision is due without anything else happening.</summary>
    public DateTimeOffset? WakeAt { get; init; }

    /// <summary>Of a stop: the wind-down step under way, counted from 0; the number of steps once all is being ended by force.</summary>
    public int WindDownStep { get; init; }

    public Afterwards Afterwards { get; init; }

    /// <summary>Pauses taken in a row: the exponent of the next one.</summary>
    public int Pauses { get; init; }

    /// <summary>Times of the latest bad ends, oldest first, as far back as they count towards a hold.</summary>
    public ImmutableArray<DateTimeOffset> BadEnds { get; init; } = [];

    /// <summary>Runs that recovery began since a person or the boot last did.</summary>
    public int Restarts { get; init; }

    public LastEnd? LastEnd { get; init; }

    /// <summary>Who asked for the latest start or stop, and when it was; null: nobody, by itself.</summary>
    public Asking? Asked { get; init; }

    public static Situation New(DateTimeOffset now) => new() { Since = now };
}

/// <param name="Pid">The main process, once it is known.</param>
/// <param name="Launched">When the program's image was in place; null while the launch is under way.</param>
/// <param name="MainOutcome">How the main process ended, while others of its tree are left.</param>
/// <param name="Detached">It put itself into the background, and its real process has been found.</param>
/// <param name="Switch">Of a program that toggles: how far it is.</param>
public sealed record LiveRun(
    long Number, Cause Cause, DateTimeOffset Began, int? Pid = null, DateTimeOffset? Launched = null, Outcome? MainOutcome = null,
    bool Detached = false, Switch Switch = Switch.Off);

/// <summary>Where a program that toggles stands.</summary>
public enum Switch
{
    /// <summary>Off, or its start command is at work.</summary>
    Off,

    /// <summary>Its start command succeeded.</summary>
    On,

    /// <summary>Its stop command is at work.</summary>
    GoingOff,
}

/// <param name="AsAsked">A stop was asked for: whatever the outcome, it is not a fall.</param>
/// <param name="Forced">The wind-down's steps did not suffice.</param>
public sealed record LastEnd(long Run, Outcome Outcome, DateTimeOffset At, bool AsAsked, bool Forced);

public sealed record Asking(string What, string By, DateTimeOffset At);
