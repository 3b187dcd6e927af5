using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Output;
using CalmSentry.Engine.Watching;
using CalmSentry.Store;

namespace CalmSentry.Engine.Falls;

/// <summary>Gathers what a bad end leaves behind, before it is overwritten.</summary>
internal static class FallLook
{
    private const int Lines = 20;

    /// <param name="from">Where the run's output begins in its file, in bytes; it ends at <paramref
    /// name="to"/>.</param>
    /// <param name="pid">Its main process.</param>
    public static FallEvidence Of(
        Definition definition,
        ServiceId service,
        RunNumber run,
        int? pid,
        bool dumped,
        long from,
        long to,
        VitalSample? vitals,
        string directory,
        SentryStore store,
        Places places
    )
    {
        var origin = store.Origin(service, run);
        var (wellRun, well) = store.LastWell(service, run);
        return new()
        {
            LastLines =
            [
                .. OutputFile.LastLines(
                    places.OutputDirectoryOf(definition.Name),
                    definition.Output.Encoding,
                    from,
                    to,
                    Lines
                ),
            ],
            Memory = vitals?.Memory,
            Cpu = vitals?.Cpu,
            SampledAt = vitals?.At,
            CoreDump = dumped ? CoreDump(pid, directory) : null,
            WellRun = well is null ? null : wellRun,
            Changes = well is null || origin is null ? [] : [.. origin.ChangesSince(well, wellRun)],
        };
    }

    /// <summary>Where the kernel puts core dumps (core(5), /proc/sys/kernel/core_pattern).</summary>
    private static string CoreDump(int? pid, string directory)
    {
        var pattern = File.ReadAllText("/proc/sys/kernel/core_pattern").Trim();
        if (pattern.StartsWith('|'))
            return $"this host gives core dumps to {pattern[1..].Split(' ')[0]}";
        var number = pid?.ToString(CultureInfo.InvariantCulture) ?? "*";
        var name = pattern
            .Replace("%%", "%", StringComparison.Ordinal)
            .Replace("%p", number, StringComparison.Ordinal)
            .Replace("%P", number, StringComparison.Ordinal);
        for (
            var at = name.IndexOf('%', StringComparison.Ordinal);
            at >= 0 && at + 1 < name.Length;
            at = name.IndexOf('%', StringComparison.Ordinal)
        )
            name = name.Remove(at, 2).Insert(at, "*");
        if (
            !pattern.Contains("%p", StringComparison.Ordinal)
            && File.ReadAllText("/proc/sys/kernel/core_uses_pid").Trim() == "1"
        )
            name += $".{number}";
        var path = Path.Combine(directory, name);
        var folder = Path.GetDirectoryName(path)!;
        var found = Directory.Exists(folder)
            ? new DirectoryInfo(folder)
                .GetFiles(Path.GetFileName(path))
                .OrderByDescending(file => file.LastWriteTimeUtc)
                .FirstOrDefault()
            : null;
        return found is null
            ? $"the kernel says it wrote one; it is not at {path}"
            : $"{found.FullName}, {Size.About(found.Length)}";
    }
}
