namespace CalmSentry.Core.Runs;

public enum OutcomeKind
{
    /// <summary>The program ended by itself with an exit code.</summary>
    Exited,

    /// <summary>A signal ended it.</summary>
    Signalled,

    /// <summary>It never came to run: a step of the launch failed.</summary>
    NeverLaunched,

    /// <summary>It was launched, but its proof of readiness did not come in time; it was wound down.</summary>
    NotProven,

    /// <summary>A watch found it in a poor state, and it was ended for that.</summary>
    Unwell,

    /// <summary>A job took longer than it may; it was wound down.</summary>
    TooLong,

    /// <summary>Its keeper was killed; what was left of it has been ended, how it fared is not known.</summary>
    KeeperLost,

    /// <summary>The machine went down under it.</summary>
    MachineLost,
}

/// <summary>How a run ended.</summary>
/// <param name="Code">The exit code (0–255), or the signal's number.</param>
/// <param name="Core">The kernel wrote a core dump.</param>
/// <param name="Detail">What was wrong with a launch, or what more is known of an end; without a full stop.</param>
public sealed record Outcome(OutcomeKind Kind, int Code = 0, bool Core = false, string? Detail = null)
{
    public bool IsGood => Kind == OutcomeKind.Exited && Code == 0;
}
