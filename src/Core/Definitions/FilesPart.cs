using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>The program's files, as far as new ones can take their place.</summary>
public sealed record FilesPart
{
    /// <summary>The directory that is exchanged as a whole, absolute; null: the one it works in, or its program's.</summary>
    public string? Directory { get; init; }

    /// <summary>What in it is the program's own, and stays: paths from it, the last name of each with * and ? for any letters.</summary>
    public ImmutableArray<string> Data { get; init; } = [];

    /// <summary>So many versions are kept beside the present one.</summary>
    public int Versions { get; init; } = DefaultVersions;

    public const int DefaultVersions = 3;

    /// <summary>So long it must stay well with new files before they stay.</summary>
    public TimeSpan WatchFor { get; init; } = DefaultWatchFor;

    public static TimeSpan DefaultWatchFor { get; } = TimeSpan.FromMinutes(1);
}
