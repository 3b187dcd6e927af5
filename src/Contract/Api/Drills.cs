using CalmSentry.Core.Reports;

namespace CalmSentry.Contract.Api;

/// <summary>
/// How all services began: after the machine came up, in a drill, or when a sentry that had wound all down was started
/// again.
/// </summary>
public sealed record BeginReport
{
    public required ReportKind Kind { get; init; }

    /// <summary>When the sentry gave the word.</summary>
    public required DateTimeOffset Began { get; init; }

    /// <summary>When the machine came up; of a boot only.</summary>
    public DateTimeOffset? Booted { get; init; }

    public required bool Done { get; init; }

    /// <summary>All that was to begin is proven.</summary>
    public required bool CameTrue { get; init; }

    /// <summary>What came of it, in a sentence or two.</summary>
    public required string Said { get; init; }

    /// <summary>Who asked for it, or null.</summary>
    public string? By { get; init; }

    /// <summary>From the word to the last proof.</summary>
    public required double TookMs { get; init; }

    /// <summary>Who was logged in when the last was proven: <c>anna on pts/0</c>.</summary>
    public required IReadOnlyList<string> LoggedIn { get; init; }

    /// <summary>Of a drill: what was wound down first, in the order it ended.</summary>
    public required IReadOnlyList<StopView> Stops { get; init; }

    /// <summary>In the order they were proven; those that were not come last.</summary>
    public required IReadOnlyList<BeginView> Services { get; init; }
}

/// <param name="FromMs">When its stop began, counted from the first.</param>
public sealed record StopView(string Name, double FromMs, double TookMs, bool Forced);

/// <summary>How one service began. Times are counted from the word to begin.</summary>
public sealed record BeginView
{
    public required string Name { get; init; }

    public required string Title { get; init; }

    /// <summary>boot | boot-late | request | never</summary>
    public required string At { get; init; }

    /// <summary>proven | starting | waiting | failed | held | not-begun | over (it did its work and ended well)</summary>
    public required string Came { get; init; }

    /// <summary>When it was to begin; null: it was not.</summary>
    public double? WantedMs { get; init; }

    public double? LaunchedMs { get; init; }

    public double? ProvenMs { get; init; }

    /// <summary>What it waited for before its launch.</summary>
    public required IReadOnlyList<WaitedView> Waited { get; init; }

    /// <summary>What proved it, as a clause.</summary>
    public string? Proof { get; init; }

    /// <summary>Median time from launch to proof of its earlier starts.</summary>
    public double? UsualMs { get; init; }

    /// <summary>Runs it took.</summary>
    public required int Tries { get; init; }

    public required string Why { get; init; }

    public int? Pid { get; init; }

    public required string Account { get; init; }

    /// <summary>Addresses it listens on.</summary>
    public required IReadOnlyList<string> Ports { get; init; }

    /// <summary>What is different from before, a sentence each.</summary>
    public required IReadOnlyList<string> Differences { get; init; }
}

public sealed record WaitedView(string For, double Ms, bool PassedOver);

/// <summary>What a drill would do, from the definitions and from history.</summary>
public sealed record DrillPlan
{
    public required string Said { get; init; }

    /// <summary>What would be interrupted, in the order it would be wound down.</summary>
    public required IReadOnlyList<PlannedStop> Stops { get; init; }

    /// <summary>What would begin, each after all it needs.</summary>
    public required IReadOnlyList<PlannedBegin> Begins { get; init; }

    /// <summary>Services that run now and would not come back by themselves after a boot.</summary>
    public required IReadOnlyList<string> NotBack { get; init; }

    /// <summary>
    /// From the first stop to the last proof, by what was usual; services without a history count nothing.
    /// </summary>
    public required double ExpectedMs { get; init; }
}

/// <param name="UsualMs">Median of earlier stops; null: never stopped yet.</param>
/// <param name="LongestMs">All waits of its wind-down together.</param>
public sealed record PlannedStop(string Name, double? UpMs, double? UsualMs, double LongestMs);

/// <param name="UsualMs">Median time from launch to proof; null: never proven yet.</param>
/// <param name="ExpectedMs">When it would be proven, counted from the word to begin.</param>
public sealed record PlannedBegin(
    string Name,
    string At,
    IReadOnlyList<string> Needs,
    string Proof,
    double? UsualMs,
    double ExpectedMs
);

/// <summary>One line of a drill's live answer (newline-delimited JSON): a note, or at the end the report.</summary>
public sealed record DrillEvent(string? Text, BeginReport? Report);
