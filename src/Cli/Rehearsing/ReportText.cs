using System.Globalization;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Rehearsing;

/// <summary>A rehearsal's report, for people.</summary>
internal static class ReportText
{
    public static void Write(RehearsalReport report)
    {
        Console.WriteLine();
        Console.WriteLine(report.Said);
        if (report.Stop is { } stop)
            Row("stop", stop);
        if (report.Errors.Count > 0)
            Row("on error", report.Errors);
        Row(
            "ports",
            report.Ports.Count == 0
                ? ["none opened"]
                : [.. report.Ports.Select(port => $"{port.Protocol} {port.Port} on {port.Address} ({port.Reach})")]
        );
        Row(
            "files",
            report.Files.Count == 0 ? ["none written"]
                : report.Files.Count > 12 ? [.. report.Files.Take(12), $"and {report.Files.Count - 12} more"]
                : report.Files
        );
        Row(
            "used",
            string.Create(
                CultureInfo.InvariantCulture,
                $"{report.PeakBytes / 1048576.0:0.0} MiB of memory at most, {report.CpuUs / 1e6:0.00} s of "
                    + $"processor time, {report.Children} child process{(report.Children == 1 ? "" : "es")}"
            )
        );
        if (report.Detached)
            Row("detached", "it put itself into the background");
        Row(
            "ran as",
            $"{report.Surroundings.Account} ({string.Join(", ", report.Surroundings.Groups)}), in "
                + $"{report.Surroundings.Directory}"
        );
        if (report.Proposals.Count == 0)
            return;
        Console.WriteLine("Proposed from what was seen:");
        foreach (var proposal in report.Proposals)
            Console.WriteLine(
                $"  {proposal.Key}{(proposal.Value is null ? "" : $": {proposal.Value}")}\n      {proposal.Why}"
            );
    }

    private static void Row(string name, string text) => Row(name, [text]);

    private static void Row(string name, IReadOnlyList<string> lines)
    {
        for (var i = 0; i < lines.Count; i++)
            Console.WriteLine($"  {(i == 0 ? name : ""), -10} {lines[i]}");
    }
}
