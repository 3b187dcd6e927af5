using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>How what the program prints is kept.</summary>
public sealed record OutputPart
{
    /// <summary>Where all of it lies; null: among the sentry's own logs.</summary>
    public string? Directory { get; init; }

    public OutputWrite Write { get; init; } = OutputWrite.Append;

    /// <summary>The time and the stream stand before each line in the file itself.</summary>
    public bool Stamp { get; init; }

    /// <summary>Bytes at which the file is turned over.</summary>
    public long TurnAt { get; init; } = DefaultTurnAt;

    public const long DefaultTurnAt = 32L << 20;

    public TurnEach TurnEach { get; init; } = TurnEach.Never;

    public bool TurnAtStart { get; init; }

    /// <summary>So many files that were turned over are kept; null: as many as there are.</summary>
    public int? KeepFiles { get; init; }

    /// <summary>They are kept so long; null: for ever.</summary>
    public TimeSpan? KeepFor { get; init; }

    /// <summary>All of the service's output takes so many bytes on the disk at most, as it lies there.</summary>
    public long KeepMost { get; init; } = DefaultKeepMost;

    public const long DefaultKeepMost = 1L << 30;

    /// <summary>Lines a second that are kept of each stream; null: all, at the pace of the disk.</summary>
    public int? ThinAbove { get; init; }

    public WhenFull WhenFull { get; init; } = WhenFull.Wait;

    /// <summary>Log files that the program writes by itself: what each is called here, and its path.</summary>
    public ImmutableSortedDictionary<string, string> Files { get; init; } =
        ImmutableSortedDictionary.Create<string, string>(StringComparer.Ordinal);

    /// <summary>What makes the program open its log files anew, in order; none: they are emptied where they are.</summary>
    public ImmutableArray<WindDownStep> Reopen { get; init; } = [];

    /// <summary>By which characters are read from the bytes, by its name in the list of IANA.</summary>
    public string Encoding { get; init; } = Utf8;

    public const string Utf8 = "utf-8";
}

public enum WhenFull
{
    /// <summary>The program waits until there is room; nothing is lost.</summary>
    Wait,

    /// <summary>What finds no room is lost, and how much is written in its place.</summary>
    GoOn,
}

public enum OutputWrite
{
    Append,

    /// <summary>At each start the file is emptied.</summary>
    Fresh,
}

/// <summary>Moments, by the host's clock and zone, at which output is turned over.</summary>
public enum TurnEach
{
    Never,
    Hour,
    Day,
    Week,
    Month,
}
