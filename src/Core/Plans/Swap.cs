using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Plans;

public enum SwapStep
{
    /// <summary>What runs of the files before is wound down.</summary>
    Stopping,
    Exchanging,
    Beginning,

    /// <summary>Proven with the new files; they stay if it stays well for a while.</summary>
    Watching,

    // They do not: the files before come back.

    StoppingAgain,
    Returning,
    BeginningAgain,
    Done,
}

/// <summary>
/// New program files for a service, from the moment its program is to be stopped for them. It is on record, so a returning
/// server goes on exactly where it was; whatever is cut off when, in the end the files are all of one version.
/// </summary>
public sealed record Swap
{
    public required string Service { get; init; }

    public required Principal By { get; init; }

    public required DateTimeOffset Began { get; init; }

    /// <summary>The number of the files before, and that of the new ones.</summary>
    public required long Before { get; init; }

    public required long Version { get; init; }

    /// <summary>So long it must stay well with the new files.</summary>
    public required TimeSpan WatchFor { get; init; }

    /// <summary>It was up, or on its way up, when this began: so it is begun again.</summary>
    public bool WasUp { get; init; }

    public SwapStep Step { get; init; } = SwapStep.Stopping;

    /// <summary>Its latest run before it was last begun.</summary>
    public RunNumber From { get; init; }

    /// <summary>When it was proven with the new files.</summary>
    public DateTimeOffset? ProvenAt { get; init; }

    /// <summary>Why the files before came back, as a clause; null: they did not.</summary>
    public string? Why { get; init; }

    /// <summary>It does not run at the end, though it was to, as a clause; null: it does, or was not to.</summary>
    public string? Down { get; init; }

    /// <summary>The same by a clock that was set: what is waited for keeps its length.</summary>
    public Swap Shifted(TimeSpan skew) => skew == TimeSpan.Zero ? this : this with { ProvenAt = ProvenAt + skew };
}

/// <summary>How its service stands, as far as a swap asks.</summary>
/// <param name="Lives">It has a run, or is to have one.</param>
/// <param name="Running">It is proven.</param>
/// <param name="Failed">Why it is not well, as a clause: it fell, is on hold, its health is poor; null: nothing is wrong.</param>
/// <param name="StoppedBySomebody">Somebody else wants it stopped.</param>
/// <param name="Files">Which version its files are, all of them; null: that cannot be told.</param>
public readonly record struct SwapStanding(
    bool Lives,
    bool Stopping,
    bool Running,
    RunNumber LastRun,
    string? Failed,
    bool StoppedBySomebody,
    long? Files
);

/// <summary>Something the server is to do for a swap; it does no harm when it is done twice.</summary>
public enum SwapDeed
{
    None,
    Stop,

    /// <summary>Make the files those of the step's version, all of them in one stroke.</summary>
    Exchange,
    Begin,
}

/// <summary>The steps of a swap, and nothing else.</summary>
public static class SwapLife
{
    /// <param name="resumed">A returning server: it is not known whether the last deed was done.</param>
    public static (Swap After, SwapDeed Deed) Step(Swap swap, SwapStanding at, DateTimeOffset now, bool resumed = false) =>
        swap.Step switch
        {
            SwapStep.Stopping => Stop(swap, at, SwapStep.Exchanging),
            SwapStep.StoppingAgain => Stop(swap, at, SwapStep.Returning),
            SwapStep.Exchanging => Exchange(swap, at, swap.Version, SwapStep.Beginning),
            SwapStep.Returning => Exchange(swap, at, swap.Before, SwapStep.BeginningAgain),
            SwapStep.Beginning => Begin(swap, at, now, resumed),
            SwapStep.BeginningAgain => BeginAgain(swap, at, resumed),
            SwapStep.Watching => Watch(swap, at, now),
            _ => (swap, SwapDeed.None),
        };

    private static (Swap, SwapDeed) Stop(Swap swap, SwapStanding at, SwapStep then) =>
        at.Lives
            ? (swap, at.Stopping ? SwapDeed.None : SwapDeed.Stop)
            : (swap with { Step = then }, SwapDeed.Exchange);

    private static (Swap, SwapDeed) Exchange(Swap swap, SwapStanding at, long wanted, SwapStep then)
    {
        // Nothing is begun from files of which it is not known that they are all of one version.
        if (at.Lives)
            return (swap, at.Stopping ? SwapDeed.None : SwapDeed.Stop);
        if (at.Files != wanted)
            return (swap, SwapDeed.Exchange);
        return swap.WasUp
            ? (swap with { Step = then, From = at.LastRun }, SwapDeed.Begin)
            : (swap with { Step = SwapStep.Done }, SwapDeed.None);
    }

    private static (Swap, SwapDeed) Begin(Swap swap, SwapStanding at, DateTimeOffset now, bool resumed)
    {
        if (at.Running && at.LastRun > swap.From)
            return (swap with { Step = SwapStep.Watching, ProvenAt = now }, SwapDeed.None);
        if (at.StoppedBySomebody)
            return (swap with { Step = SwapStep.Done, Down = "somebody stopped it meanwhile" }, SwapDeed.None);
        if (at.Failed is { } why && at.LastRun > swap.From)
            return Return(swap, at, why);
        return (swap, resumed && !at.Lives ? SwapDeed.Begin : SwapDeed.None);
    }

    private static (Swap, SwapDeed) Watch(Swap swap, SwapStanding at, DateTimeOffset now)
    {
        if (at.StoppedBySomebody)
            return (swap with { Step = SwapStep.Done, Down = "somebody stopped it meanwhile" }, SwapDeed.None);
        if (at.Failed is { } why)
            return Return(swap, at, why);
        return now >= swap.ProvenAt + swap.WatchFor && at.Running
            ? (swap with { Step = SwapStep.Done }, SwapDeed.None)
            : (swap, SwapDeed.None);
    }

    private static (Swap, SwapDeed) Return(Swap swap, SwapStanding at, string why) =>
        Stop(swap with { Step = SwapStep.StoppingAgain, Why = why }, at, SwapStep.Returning);

    private static (Swap, SwapDeed) BeginAgain(Swap swap, SwapStanding at, bool resumed)
    {
        if (at.Running && at.LastRun > swap.From)
            return (swap with { Step = SwapStep.Done }, SwapDeed.None);
        if (at.StoppedBySomebody)
            return (swap with { Step = SwapStep.Done, Down = "somebody stopped it meanwhile" }, SwapDeed.None);
        if (at.Failed is { } why && at.LastRun > swap.From)
            return (swap with { Step = SwapStep.Done, Down = why }, SwapDeed.None);
        return (swap, resumed && !at.Lives ? SwapDeed.Begin : SwapDeed.None);
    }
}
