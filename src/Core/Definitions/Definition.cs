using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>Everything set for a service, complete: what was left out has its default. <see cref="Given"/> tells which is which.</summary>
public sealed record Definition
{
    public required string Name { get; init; }

    public required string Title { get; init; }

    public string Notes { get; init; } = "";

    public required ProgramPart Program { get; init; }

    /// <summary>The account the program runs as.</summary>
    public required string Account { get; init; }

    public BeginAt At { get; init; } = BeginAt.Request;

    public RecoverPart Recover { get; init; } = new();

    /// <summary>The steps of a clean stop, in order. Whatever is left after the last is ended by force.</summary>
    public ImmutableArray<WindDownStep> WindDown { get; init; } = [new WindDownStep("TERM", TimeSpan.FromSeconds(10))];

    /// <summary>Dotted keys that were set, rather than left to their default: <c>program.directory</c>.</summary>
    public ImmutableHashSet<string> Given { get; init; } = [];
}

/// <param name="Path">The program's file, absolute.</param>
/// <param name="Directory">The working directory, absolute; null: the program's own, or for the host's programs the service's state directory.</param>
public sealed record ProgramPart(string Path, ImmutableArray<string> Arguments, string? Directory, ImmutableSortedDictionary<string, string> Environment);

public enum BeginAt
{
    /// <summary>When a person or a program asks for it.</summary>
    Request,

    /// <summary>When the machine comes up.</summary>
    Boot,
}

public enum RecoverAfter
{
    Failure,
    AnyEnd,
    Never,
}

/// <summary>When a run's end is followed by another run, and how soon.</summary>
public sealed record RecoverPart
{
    public RecoverAfter After { get; init; } = RecoverAfter.Failure;

    /// <summary>Pause before the first try.</summary>
    public TimeSpan First { get; init; } = TimeSpan.FromSeconds(1);

    /// <summary>Factor by which each pause is longer than the one before.</summary>
    public double Grow { get; init; } = 2;

    public TimeSpan Longest { get; init; } = TimeSpan.FromMinutes(1);

    /// <summary>A run at least this long forgets the pauses before it.</summary>
    public TimeSpan SteadyAfter { get; init; } = TimeSpan.FromMinutes(10);

    /// <summary>So many bad ends within <see cref="HoldWithin"/> put the service on hold. 0: never.</summary>
    public int HoldEnds { get; init; } = 5;

    public TimeSpan HoldWithin { get; init; } = TimeSpan.FromMinutes(10);
}

/// <summary>Send <paramref name="Signal"/> to the main process, then wait until the program has ended, but no longer than <paramref name="Wait"/>.</summary>
/// <param name="Signal">Name without SIG, one of <see cref="SignalNames"/>.</param>
public sealed record WindDownStep(string Signal, TimeSpan Wait);
