using CalmSentry.Core.Wording;

namespace CalmSentry.Contract.Api;

/// <summary>Why a service is as it is, from the record.</summary>
public sealed record WhyView
{
    public required string Name { get; init; }

    public required string Title { get; init; }

    /// <summary>The moment that is answered for.</summary>
    public required DateTimeOffset At { get; init; }

    /// <summary>It is answered for the past.</summary>
    public required bool Past { get; init; }

    public required ServiceState State { get; init; }

    public required HealthLevel Health { get; init; }

    /// <summary>Since when the state and health hold.</summary>
    public required DateTimeOffset Since { get; init; }

    /// <summary>State, since when and why, in sentences.</summary>
    public required string Said { get; init; }

    /// <summary>What led there, oldest first.</summary>
    public required IReadOnlyList<WhyStep> Because { get; init; }

    /// <summary>The latest run that ended badly, with the last lines it printed; null: none did.</summary>
    public WhyFailure? LastFailure { get; init; }

    /// <summary>What comes next by itself.</summary>
    public required IReadOnlyList<WhyNext> Next { get; init; }

    /// <summary>What a person could do.</summary>
    public required IReadOnlyList<WhyCould> Could { get; init; }
}

/// <param name="Until">Of many rounds told as one: when the last was.</param>
public sealed record WhyStep(DateTimeOffset At, DateTimeOffset Until, string Text, string? By);

/// <param name="Words">How it ended, in words that follow "run 3".</param>
/// <param name="LastLines">What it printed last, oldest first.</param>
public sealed record WhyFailure(long Run, DateTimeOffset At, string Words, IReadOnlyList<string> LastLines);

/// <param name="At">When; null: when its condition comes true.</param>
public sealed record WhyNext(DateTimeOffset? At, string Text);

public sealed record WhyCould(string Text, string Command);

/// <summary>Who needs attention now, and how the rest is.</summary>
public sealed record BoardView
{
    public required string Host { get; init; }

    public required DateTimeOffset At { get; init; }

    /// <summary>What the store, or how this machine was booted, does not allow now, as sentences.</summary>
    public IReadOnlyList<string> Limits { get; init; } = [];

    /// <summary>Those that need attention, the longest waiting first.</summary>
    public required IReadOnlyList<ServiceView> NeedAttention { get; init; }

    /// <summary>Of the rest, those that probably ask somebody at their terminals.</summary>
    public required IReadOnlyList<ServiceView> Asking { get; init; }

    /// <summary>Those whose definitions differ from the files they were brought to, the longest first.</summary>
    public IReadOnlyList<ServiceView> Apart { get; init; } = [];

    /// <summary>Those on their way: waiting, starting, stopping.</summary>
    public required IReadOnlyList<ServiceView> Moving { get; init; }

    /// <summary>How many run well, and how many are stopped as intended.</summary>
    public required int Well { get; init; }

    public required int Down { get; init; }

    /// <summary>The latest entries of the logbook that were to be heard, newest first.</summary>
    public required IReadOnlyList<LogEntry> Told { get; init; }
}
