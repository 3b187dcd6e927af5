using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Contract.Api;

/// <summary>One run, with all that is kept of it.</summary>
public sealed record RunView
{
    public required long Run { get; init; }

    public required Cause Cause { get; init; }

    /// <summary>When the sentry gave the word.</summary>
    public required DateTimeOffset Began { get; init; }

    public DateTimeOffset? Launched { get; init; }

    public DateTimeOffset? Ended { get; init; }

    public int? Pid { get; init; }

    /// <summary>When it was proven ready, and by what.</summary>
    public DateTimeOffset? Proven { get; init; }

    public string? Proof { get; init; }

    /// <summary>Who or what began it.</summary>
    public string? BegunBy { get; init; }

    /// <summary>Who or what ended it: a person, itself, the sentry, the machine …</summary>
    public string? EndedBy { get; init; }

    /// <summary>It ended as it should not have.</summary>
    public bool Bad { get; init; }

    /// <summary>The steps of its wind-down did not suffice.</summary>
    public bool Forced { get; init; }

    /// <summary>Null while it is live.</summary>
    public OutcomeKind? Outcome { get; init; }

    /// <summary>Exit code or signal number.</summary>
    public int? Code { get; init; }

    /// <summary>The outcome in words.</summary>
    public string? Words { get; init; }

    /// <summary>Largest resident memory of one of its processes, in KiB.</summary>
    public long? PeakKib { get; init; }

    /// <summary>Processor time of all its processes, in microseconds.</summary>
    public long? CpuUs { get; init; }

    /// <summary>What it printed, in bytes.</summary>
    public long? OutputBytes { get; init; }

    /// <summary>How long its stop took, in milliseconds; null when it was not stopped.</summary>
    public double? StopMs { get; init; }

    /// <summary>Which version of its files it had; null: before the first swap.</summary>
    public long? Version { get; init; }

    /// <summary>The steps of its stop that were taken.</summary>
    public required IReadOnlyList<StepView> Steps { get; init; }

    /// <summary>What it left behind, of a run that ended badly.</summary>
    public EvidenceView? Evidence { get; init; }

    /// <summary>When the picture of its display was taken that is kept of it: <c>GET /api/services/{name}/window?run=N</c>.</summary>
    public DateTimeOffset? PictureAt { get; init; }
}

/// <param name="What">The step.</param>
/// <param name="Answer">What came back, as a clause.</param>
/// <param name="Failed">It could not be taken at all.</param>
/// <param name="EndedMs">The run ended in this step, so long after it was taken.</param>
public sealed record StepView(string What, DateTimeOffset At, string? Answer, bool Failed, double? EndedMs);

/// <param name="LastLines">The last lines it printed.</param>
/// <param name="MemoryBytes">Memory of its tree at the last look before the end.</param>
/// <param name="CpuPercent">Processor time then, in percent of one processor.</param>
/// <param name="CoreDump">Where the core dump is, or what becomes of core dumps here; null: none.</param>
/// <param name="WellRun">The run that last went well; null: none did.</param>
/// <param name="Changes">What changed since then, as sentences.</param>
public sealed record EvidenceView(
    IReadOnlyList<string> LastLines,
    long? MemoryBytes,
    double? CpuPercent,
    DateTimeOffset? SampledAt,
    string? CoreDump,
    long? WellRun,
    IReadOnlyList<string> Changes
);

/// <summary>How much of a time it ran.</summary>
/// <param name="Window">day | week | 30-days | 12-months</param>
/// <param name="Percent">Of the time it was to run, the part it did; null when it was never to run.</param>
/// <param name="Falls">Times it fell.</param>
/// <param name="Stops">Planned stops.</param>
/// <param name="Job">How its runs went; null: it is no job.</param>
public sealed record AvailabilityView(
    string Window,
    double? Percent,
    double UpMs,
    double PlannedMs,
    double FallenMs,
    int Falls,
    int Stops,
    JobFiguresView? Job = null
);

/// <summary>How the runs of a job went in a time.</summary>
/// <param name="Done">Runs that ended with success.</param>
/// <param name="Failed">Runs that did not, each try of them.</param>
/// <param name="Missed">Moments that nobody was there for.</param>
/// <param name="Late">Runs that were not done within their late-after.</param>
/// <param name="UsualMs">Median of how long those that succeeded took, in milliseconds; null: none did.</param>
/// <param name="LongestMs">The longest of them, in milliseconds.</param>
public sealed record JobFiguresView(long Done, long Failed, long Missed, long Late, double? UsualMs, double? LongestMs);
