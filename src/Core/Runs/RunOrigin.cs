using System.Collections.Immutable;
using System.Globalization;

namespace CalmSentry.Core.Runs;

/// <summary>What a run was launched from: enough to say afterwards what was another then.</summary>
/// <param name="Revision">Of the definition.</param>
/// <param name="Boot">Another for each boot of the machine.</param>
public sealed record RunOrigin(int Revision, string Boot, ImmutableArray<OriginFile> Files)
{
    /// <summary>What differs from an earlier run that went well, each as a sentence.</summary>
    public IReadOnlyList<string> ChangesSince(RunOrigin well, long wellRun)
    {
        var changes = new List<string>();
        if (Revision != well.Revision)
            changes.Add(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"Its definition is revision {Revision}; run {wellRun} went by revision {well.Revision}."
                )
            );
        if (Boot != well.Boot)
            changes.Add("The machine has been booted since.");
        foreach (var file in Files)
        {
            var before = well.Files.FirstOrDefault(other => other.Role == file.Role);
            if (before is null || before == file)
                continue;
            var what = file.Role == OriginRole.Interpreter ? "Its interpreter" : "Its program's file";
            if (before.Path != file.Path)
                changes.Add($"{what} is {file.Path}; it was {before.Path}.");
            else if (file.Size is null)
                changes.Add($"{what} {file.Path} is gone.");
            else
                changes.Add(
                    string.Create(
                        CultureInfo.InvariantCulture,
                        $"{what} {file.Path} is another: written {file.Written:yyyy-MM-dd HH:mm:ss} UTC, "
                            + $"{file.Size} bytes (it was "
                            + $"{(before.Size is null ? "not there" : $"{before.Written:yyyy-MM-dd HH:mm:ss} UTC, {before.Size} bytes")})."
                    )
                );
        }

        return changes;
    }
}

public enum OriginRole
{
    Program,
    Interpreter,
}

/// <param name="Path">Where it really lies, links followed.</param>
/// <param name="Size">Bytes; null: it was not there.</param>
public sealed record OriginFile(OriginRole Role, string Path, long? Size, DateTimeOffset? Written);

/// <summary>What is kept of a run that ended badly.</summary>
public sealed record FallEvidence
{
    /// <summary>The last lines it printed.</summary>
    public ImmutableArray<string> LastLines { get; init; } = [];

    /// <summary>Memory of its tree that was its own, in bytes, at the last look before the end.</summary>
    public long? Memory { get; init; }

    /// <summary>Processor time in percent of one processor over the last looks before the end.</summary>
    public double? Cpu { get; init; }

    /// <summary>When that was.</summary>
    public DateTimeOffset? SampledAt { get; init; }

    /// <summary>Where the core dump is, or what becomes of core dumps on this host; null: none was written.</summary>
    public string? CoreDump { get; init; }

    /// <summary>What changed since it last ran well, each as a sentence.</summary>
    public ImmutableArray<string> Changes { get; init; } = [];

    /// <summary>The run that went well; null: none did yet.</summary>
    public long? WellRun { get; init; }
}
