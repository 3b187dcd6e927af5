using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Plans;

/// <summary>What is done with several services together.</summary>
public enum PlanKind
{
    /// <summary>They are stopped, dependents first.</summary>
    Stop,

    /// <summary>They are stopped, and those that were asked for are started again.</summary>
    Restart,

    /// <summary>All is stopped and begun as a boot would.</summary>
    Drill,

    /// <summary>All is stopped before the machine, or the sentry, goes down.</summary>
    Shutdown,

    /// <summary>What begins with the machine comes to rest.</summary>
    Boot,

    /// <summary>The same, where the machine stayed up and the sentry had stopped all.</summary>
    Start,
}

public enum PlanStep
{
    Stopping,
    Beginning,

    /// <summary>What was begun is on its way.</summary>
    Settling,
    Done,
}

/// <summary>
/// Something that spans several services, from its first step to its last. It is on record, so a returning server goes on
/// exactly where it was.
/// </summary>
public sealed record Plan
{
    public required PlanKind Kind { get; init; }

    public required Principal By { get; init; }

    public required DateTimeOffset Began { get; init; }

    public PlanStep Step { get; init; } = PlanStep.Stopping;

    /// <summary>What is stopped.</summary>
    public ImmutableArray<PlanStop> Stops { get; init; } = [];

    /// <summary>When all of those were down.</summary>
    public DateTimeOffset? BegunAt { get; init; }

    /// <summary>What is begun then, in this order.</summary>
    public ImmutableArray<PlanBegin> Begins { get; init; } = [];

    /// <summary>What is started once all that was begun has come to rest.</summary>
    public ImmutableArray<string> Afterwards { get; init; } = [];

    /// <summary>From when on what is left is ended by force; null: each has the time its wind-down gives it.</summary>
    public DateTimeOffset? ForceAt { get; init; }

    public bool Forced { get; init; }

    /// <summary>Whether it stops or begins a service, or will.</summary>
    public bool Concerns(string service) => Names.Contains(service);

    /// <summary>All it stops or begins.</summary>
    public IEnumerable<string> Names =>
        Stops.Select(stop => stop.Name).Concat(Begins.Select(begin => begin.Name)).Concat(Afterwards).Distinct();

    /// <summary>The same by a clock that was set: what is waited for keeps its length.</summary>
    /// <param name="skew">By how much the clock was set forward.</param>
    public Plan Shifted(TimeSpan skew) => skew == TimeSpan.Zero ? this : this with { ForceAt = ForceAt + skew };
}

/// <param name="After">Those of the plan that need it: they are down before it is asked.</param>
public sealed record PlanStop(string Name, ImmutableArray<string> After)
{
    /// <summary>When it was asked to stop; null: not yet.</summary>
    public DateTimeOffset? AskedAt { get; init; }

    /// <summary>The run that was asked to stop; none: it only waited.</summary>
    public RunNumber Run { get; init; }

    /// <summary>When it was down; null: not yet.</summary>
    public DateTimeOffset? DownAt { get; init; }

    /// <summary>The steps of its wind-down did not suffice.</summary>
    public bool Forced { get; init; }
}

/// <param name="From">Its latest run before it was begun.</param>
/// <param name="Wanted">Of a restart: it is begun whether or not this plan has stopped it, for somebody has named it.</param>
public sealed record PlanBegin(string Name, bool Asked = false, RunNumber From = default, bool Wanted = false);

/// <summary>How a service stands, as far as a plan asks.</summary>
/// <param name="Run">Its live run; none: it has none.</param>
/// <param name="Waits">It is to begin, and has no run yet.</param>
/// <param name="Forced">Its last run was ended by force.</param>
public readonly record struct Standing(
    bool Exists,
    RunNumber Run,
    RunNumber LastRun,
    bool Waits,
    bool Stopping,
    bool Forced
)
{
    public bool Lives => Exists && (Run > default(RunNumber) || Waits);
}

/// <summary>Something the server is to do for a plan, in order.</summary>
public abstract record PlanDeed(string Name);

public sealed record AskStop(string Name) : PlanDeed(Name);

public sealed record AskForce(string Name) : PlanDeed(Name);

/// <summary>Begin it: as a boot would, or as asked, by what kind of plan it is.</summary>
public sealed record AskBegin(string Name) : PlanDeed(Name);

/// <summary>Start it, as somebody who asks would.</summary>
public sealed record AskStart(string Name) : PlanDeed(Name);
