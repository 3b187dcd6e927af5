namespace CalmSentry.Contract.Api;

/// <summary>What is planned within a time.</summary>
/// <param name="Planned">One for each rhythm, those that come first before others.</param>
/// <param name="Quiet">The same of standing quiet times, in which no alert is raised.</param>
public sealed record AheadView(
    DateTimeOffset From,
    DateTimeOffset Until,
    IReadOnlyList<PlannedView> Planned,
    IReadOnlyList<PlannedView> Quiet
);

/// <summary>The moments of one rhythm of a service.</summary>
public sealed record PlannedView
{
    public required string Service { get; init; }

    public required string Title { get; init; }

    /// <summary>run | restart | quiet</summary>
    public required string What { get; init; }

    /// <summary>When, as the definition says it.</summary>
    public required string When { get; init; }

    /// <summary>By whose clock (IANA time zone).</summary>
    public required string Zone { get; init; }

    /// <summary>Median of what it took until now, in milliseconds; null before the first.</summary>
    public double? UsualMs { get; init; }

    /// <summary>Of twenty, nineteen took no longer (95th percentile), in milliseconds; null before the first.</summary>
    public double? SlowMs { get; init; }

    /// <summary>Of a quiet time: how long it is, in milliseconds.</summary>
    public double? LastsMs { get; init; }

    /// <summary>How many moments there are in the time asked for, ten thousand at most.</summary>
    public required int Count { get; init; }

    /// <summary>The first of them, a thousand at most.</summary>
    public required IReadOnlyList<DateTimeOffset> Moments { get; init; }
}

/// <summary>The moments that a rhythm would have.</summary>
/// <param name="When">As it would be written back.</param>
/// <param name="Moments">The next ones, ten at most.</param>
public sealed record MomentsView(string When, string Zone, IReadOnlyList<MomentView> Moments);

/// <param name="At">When.</param>
/// <param name="There">By the clock of the rhythm's zone, with the day of the week.</param>
/// <param name="Here">By the host's clock, where that shows something else; else null.</param>
public sealed record MomentView(DateTimeOffset At, string There, string? Here);
