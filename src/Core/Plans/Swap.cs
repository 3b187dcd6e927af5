using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Plans;

public enum SwapStep
{
    /// <summary>
    /// Something at work in its files keeps them from being looked at: it is wound down first, and the new files are made ready then. So
    /// long it is not known which version they are going to be.
    /// </summary>
    Looking,

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

/// <summary>All files of a program in one state.</summary>
/// <param name="Number">Counted from 1, for each service by itself.</param>
/// <param name="Identity">The directory they lie in, as the kernel tells it from all others, wherever it is moved.</param>
public sealed record FileVersion(long Number, string Identity);

/// <summary>
/// New program files for a service, from the moment its program is to be stopped for them. It is on record, so a returning
/// server goes on exactly where it was; whatever is cut off when, in the end the files are all of one version.
/// </summary>
public sealed record Swap
{
    public required Principal By { get; init; }

    public required DateTimeOffset Began { get; init; }

    /// <summary>The directory that is exchanged, without links.</summary>
    public required string Directory { get; init; }

    /// <summary>What in it stays, as <see cref="Definitions.FilesPart.Data"/> says it.</summary>
    public ImmutableArray<string> Data { get; init; } = [];

    public required FileVersion Before { get; init; }

    public required FileVersion Version { get; init; }

    /// <summary>It was made for this swap; else it was there before, and is brought back.</summary>
    public bool IsNew { get; init; }

    /// <summary>So long it must stay well with the new files.</summary>
    public required TimeSpan WatchFor { get; init; }

    /// <summary>Those that need it, and are stopped and begun again with it.</summary>
    public ImmutableArray<string> Dependents { get; init; } = [];

    /// <summary>It is a job: its run under way is not interrupted, and no other is begun for this.</summary>
    public bool IsJob { get; init; }

    /// <summary>It was up, or on its way up: so it is begun again.</summary>
    public bool WasUp { get; init; }

    public SwapStep Step { get; init; } = SwapStep.Stopping;

    /// <summary>Its latest run before it was last begun.</summary>
    public RunNumber From { get; init; }

    /// <summary>When it was proven with the new files.</summary>
    public DateTimeOffset? ProvenAt { get; init; }

    /// <summary>Why the files before came back, as a clause; null: they did not.</summary>
    public string? Why { get; init; }

    /// <summary>The run that was it for the new files; null: none was begun.</summary>
    public RunNumber? FailedRun { get; init; }

    /// <summary>It does not run at the end, though it was to, as a clause; null: it does, or was not to.</summary>
    public string? Down { get; init; }

    /// <summary>At the end its files could not be made those they were to be.</summary>
    public bool Stuck { get; init; }

    /// <summary>Which version its files were found to be then, all of them; null: that cannot be told.</summary>
    public long? Found { get; init; }

    /// <summary>It has come to its end, and its service has the new files and does what it was to do.</summary>
    public bool CameTrue => this is { Step: SwapStep.Done, Why: null, Down: null };

    /// <summary>Which version its files are once it is done; null: that cannot be told.</summary>
    public long? InPlace =>
        Stuck ? Found
        : Why is null ? Version.Number
        : Before.Number;

    /// <summary>The same by a clock that was set: what is waited for keeps its length.</summary>
    public Swap Shifted(TimeSpan skew) => skew == TimeSpan.Zero ? this : this with { ProvenAt = ProvenAt + skew };
}

/// <param name="Why">A clause.</param>
public readonly record struct SwapFailure(RunNumber Run, string Why);

/// <summary>How its service stands, as far as a swap asks.</summary>
/// <param name="Lives">It has a run, or is to have one.</param>
/// <param name="Running">It is proven.</param>
/// <param name="Failed">
/// A run since it was last begun that was not well: it fell, is on hold, its health is poor; null: nothing is wrong.
/// </param>
/// <param name="StopAsked">The latest word of a person was to stop it.</param>
/// <param name="Files">Which version its files are, all of them; null: that cannot be told.</param>
/// <param name="Stuck">Why they could not be exchanged, as a clause: they are as they were; null: they could, or it was not tried.</param>
/// <param name="Other">
/// What lies in their place is neither of the versions, and nothing was moved: new files can be made ready for it, and whoever asked
/// for them is still there to say which.
/// </param>
/// <param name="Refused">
/// Why new files were not made ready when that was last tried, as a clause, or cannot be any more; null: they were, or it was not tried.
/// </param>
public readonly record struct SwapStanding(
    bool Lives,
    bool Stopping,
    bool Running,
    RunNumber LastRun,
    SwapFailure? Failed,
    bool StopAsked,
    long? Files,
    string? Stuck,
    bool Other = false,
    string? Refused = null
);

/// <summary>Something the server is to do for a swap; it does no harm when it is done twice.</summary>
public enum SwapDeed
{
    None,
    Stop,

    /// <summary>Make new files ready for what lies there now; once that is done the swap is about them.</summary>
    Look,

    /// <summary>Make the files those of the step's version, all of them in one stroke.</summary>
    Exchange,
    Begin,
}

/// <summary>The steps of a swap, and nothing else.</summary>
public static class SwapLife
{
    /// <summary>Which files a step is to end with; null: it changes none.</summary>
    public static FileVersion? Wanted(Swap swap) =>
        swap.Step switch
        {
            SwapStep.Exchanging => swap.Version,
            SwapStep.Returning => swap.Before,
            _ => null,
        };

    /// <param name="resumed">A returning server: it is not known whether the last deed was done.</param>
    public static (Swap After, SwapDeed Deed) Step(
        Swap swap,
        SwapStanding at,
        DateTimeOffset now,
        bool resumed = false
    ) =>
        swap.Step switch
        {
            SwapStep.Looking => Look(swap, at),
            SwapStep.Stopping => Stop(swap, at, SwapStep.Exchanging),
            SwapStep.StoppingAgain => Stop(swap, at, SwapStep.Returning),
            SwapStep.Exchanging => Exchange(swap, at, resumed),
            SwapStep.Returning => Return(swap, at, resumed),
            SwapStep.Beginning => Begin(swap, at, now, resumed),
            SwapStep.BeginningAgain => BeginAgain(swap, at, resumed),
            SwapStep.Watching => Watch(swap, at, now),
            _ => (swap, SwapDeed.None),
        };

    private static (Swap, SwapDeed) Stop(Swap swap, SwapStanding at, SwapStep then)
    {
        swap = Heard(swap, at);
        if (!at.Lives)
            return (swap with { Step = then }, SwapDeed.Exchange);
        return (swap, at.Stopping || swap.IsJob ? SwapDeed.None : SwapDeed.Stop);
    }

    private static (Swap, SwapDeed) Look(Swap swap, SwapStanding at)
    {
        swap = Heard(swap, at);
        if (at.Refused is null && swap.Why is null)
            return at.Lives ? (swap, at.Stopping || swap.IsJob ? SwapDeed.None : SwapDeed.Stop) : (swap, SwapDeed.Look);
        // Nothing was exchanged: it is begun again as it was, once its stop has ended.
        swap = swap with
        {
            Why = swap.Why ?? at.Refused,
        };
        return at switch
        {
            { Lives: true, Stopping: true } => (swap, SwapDeed.None),
            { Lives: false } when swap.WasUp => (
                swap with
                {
                    Step = SwapStep.BeginningAgain,
                    From = at.LastRun,
                },
                SwapDeed.Begin
            ),
            _ => (swap with { Step = SwapStep.Done }, SwapDeed.None),
        };
    }

    /// <summary>What somebody, or a boot, has begun meanwhile is to be up in the end; what somebody has stopped is not.</summary>
    private static Swap Heard(Swap swap, SwapStanding at) =>
        at.StopAsked ? swap with { WasUp = false }
        : at.Lives && !swap.IsJob ? swap with { WasUp = true }
        : swap;

    private static (Swap, SwapDeed) Exchange(Swap swap, SwapStanding at, bool resumed)
    {
        swap = Heard(swap, at);
        if (at is { Stuck: not null, Other: true, Lives: false })
            return (swap with { Step = SwapStep.Looking }, SwapDeed.Look);
        if (at.Stuck is { } why && at.Files == swap.Before.Number)
        {
            swap = swap with { Why = why };
            return swap.WasUp && !at.Lives
                ? (swap with { Step = SwapStep.BeginningAgain, From = at.LastRun }, SwapDeed.Begin)
                : (swap with { Step = SwapStep.Done }, SwapDeed.None);
        }

        if (at.Stuck is { } torn)
            return Stays(swap with { Why = torn }, at, torn);
        return Exchanged(swap, at, swap.Version.Number, SwapStep.Beginning, resumed);
    }

    private static (Swap, SwapDeed) Return(Swap swap, SwapStanding at, bool resumed) =>
        at.Stuck is { } why
            ? Stays(swap, at, $"the files before cannot be brought back: {why}")
            : Exchanged(swap, at, swap.Before.Number, SwapStep.BeginningAgain, resumed);

    /// <summary>Its files cannot be made those they were to be, and it is not begun.</summary>
    private static (Swap, SwapDeed) Stays(Swap swap, SwapStanding at, string down) =>
        (swap with { Step = SwapStep.Done, Down = down, Stuck = true, Found = at.Files }, SwapDeed.None);

    private static (Swap, SwapDeed) Exchanged(Swap swap, SwapStanding at, long wanted, SwapStep then, bool resumed)
    {
        swap = Heard(swap, at);
        if (at.Files == wanted)
        {
            // Files change under nobody: what lives with them was begun with them, by a boot between.
            if (at.Lives && resumed)
                return (swap with { Step = then, From = new(at.LastRun.Value - 1) }, SwapDeed.None);
            if (!at.Lives)
                return swap.WasUp
                    ? (swap with { Step = then, From = at.LastRun }, SwapDeed.Begin)
                    : (swap with { Step = SwapStep.Done }, SwapDeed.None);
        }

        // Nothing is begun from files of which it is not known that they are all of one version.
        return at.Lives ? (swap, at.Stopping || swap.IsJob ? SwapDeed.None : SwapDeed.Stop) : (swap, SwapDeed.Exchange);
    }

    private static (Swap, SwapDeed) Begin(Swap swap, SwapStanding at, DateTimeOffset now, bool resumed)
    {
        var begun = at.LastRun > swap.From;
        if (at.Failed is { } failure)
            return GoBack(swap, at, failure);
        if (at.Running && begun)
            return (swap with { Step = SwapStep.Watching, ProvenAt = now }, SwapDeed.None);
        return Waits(swap, at, resumed);
    }

    private static (Swap, SwapDeed) Watch(Swap swap, SwapStanding at, DateTimeOffset now)
    {
        if (at.Failed is { } failure)
            return GoBack(swap, at, failure);
        if (!at.Lives || (at.Stopping && at.StopAsked))
            return (swap with { Step = SwapStep.Done, Down = StoppedMeanwhile }, SwapDeed.None);
        return now >= swap.ProvenAt + swap.WatchFor && at.Running
            ? (swap with { Step = SwapStep.Done }, SwapDeed.None)
            : (swap, SwapDeed.None);
    }

    private static (Swap, SwapDeed) GoBack(Swap swap, SwapStanding at, SwapFailure failure) =>
        Stop(
            swap with
            {
                Step = SwapStep.StoppingAgain,
                Why = failure.Why,
                FailedRun = failure.Run,
            },
            at,
            SwapStep.Returning
        );

    private static (Swap, SwapDeed) BeginAgain(Swap swap, SwapStanding at, bool resumed)
    {
        var begun = at.LastRun > swap.From;
        if (at.Failed is { } failure)
            return (swap with { Step = SwapStep.Done, Down = failure.Why }, SwapDeed.None);
        if (at.Running && begun)
            return (swap with { Step = SwapStep.Done }, SwapDeed.None);
        return Waits(swap, at, resumed);
    }

    private static (Swap, SwapDeed) Waits(Swap swap, SwapStanding at, bool resumed)
    {
        if (at.Lives)
            return (swap, SwapDeed.None);
        // The word that was to begin it may have been lost with the server; else somebody's stop came after it.
        return resumed && at.LastRun == swap.From && !at.StopAsked
            ? (swap, SwapDeed.Begin)
            : (swap with { Step = SwapStep.Done, Down = StoppedMeanwhile }, SwapDeed.None);
    }

    private const string StoppedMeanwhile = "it was stopped meanwhile";
}
