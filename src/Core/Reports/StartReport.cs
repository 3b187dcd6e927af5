using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Reports;

/// <summary>What made services start together.</summary>
public enum ReportKind
{
    Boot,
    Drill,

    /// <summary>A sentry that had stopped all was started again.</summary>
    Start,
}

/// <summary>How far a service came.</summary>
public enum Came
{
    Proven,
    Starting,
    Waiting,
    Failed,
    Held,

    /// <summary>It was not to start.</summary>
    NotBegun,

    /// <summary>It did its work and ended well.</summary>
    Over,
}

/// <summary>What is different from before.</summary>
public enum DifferenceCode
{
    /// <summary>Of an earlier version, which kept a sentence.</summary>
    Other,

    /// <summary>It ran before, and a boot does not start it.</summary>
    NotBack,
    RanNotBefore,
    Account,
    PortsGone,
    PortsNew,
    Pid,
}

/// <param name="Was">What it was before.</param>
/// <param name="Is">What it is now.</param>
public sealed record Difference(DifferenceCode Code, string? Was = null, string? Is = null);

/// <param name="From">When its stop began, counted from the first.</param>
public sealed record ReportedStop(string Name, TimeSpan From, TimeSpan Took, bool Forced);

public sealed record ReportedWait(string For, TimeSpan Length, bool PassedOver);

/// <summary>How one service started. Times are counted from the word to start.</summary>
public sealed record ReportedStart
{
    public required string Name { get; init; }

    public required string Title { get; init; }

    public required BeginAt At { get; init; }

    public required Came Came { get; init; }

    public TimeSpan? Wanted { get; init; }

    public TimeSpan? Launched { get; init; }

    public TimeSpan? Proven { get; init; }

    public ImmutableArray<ReportedWait> Waited { get; init; } = [];

    /// <summary>What proved it, as a clause.</summary>
    public string? Proof { get; init; }

    /// <summary>Median time from launch to proof of its earlier starts.</summary>
    public TimeSpan? Usual { get; init; }

    /// <summary>Runs it took.</summary>
    public int Tries { get; init; }

    /// <summary>The explanation of where it stood at the end.</summary>
    public required string Why { get; init; }

    public int? Pid { get; init; }

    public required string Account { get; init; }

    /// <summary>Addresses it listened on.</summary>
    public ImmutableArray<string> Ports { get; init; } = [];

    public ImmutableArray<Difference> Differences { get; init; } = [];
}

/// <summary>How all services started: after a boot, in a drill, or after all had been stopped.</summary>
public sealed record StartReport
{
    public required ReportKind Kind { get; init; }

    public required DateTimeOffset Began { get; init; }

    /// <summary>When the machine came up; of a boot only.</summary>
    public DateTimeOffset? Booted { get; init; }

    public required bool Done { get; init; }

    public Principal? By { get; init; }

    /// <summary>From the word to the last proof.</summary>
    public required TimeSpan Took { get; init; }

    /// <summary>Who was logged in when the last was proven.</summary>
    public ImmutableArray<string> LoggedIn { get; init; } = [];

    /// <summary>Of a drill: what was stopped first, in the order it ended.</summary>
    public ImmutableArray<ReportedStop> Stops { get; init; } = [];

    /// <summary>In the order they were proven; those that were not come last.</summary>
    public required ImmutableArray<ReportedStart> Services { get; init; }

    public IEnumerable<ReportedStart> WereToStart => Services.Where(one => one.Came != Came.NotBegun);

    public IEnumerable<ReportedStart> NotReady => WereToStart.Where(one => one.Came is not (Came.Proven or Came.Over));

    /// <summary>What was to start, did its work and ended well.</summary>
    public IEnumerable<ReportedStart> Over => Services.Where(one => one.Came == Came.Over);

    /// <summary>All that was to start is ready, or has done its work.</summary>
    public bool CameTrue => Done && !NotReady.Any();

    /// <summary>Those that ran before and that a reboot would not bring back.</summary>
    public IEnumerable<ReportedStart> NotBack =>
        Services.Where(one => one.Differences.Any(difference => difference.Code == DifferenceCode.NotBack));
}
