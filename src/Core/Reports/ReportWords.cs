using System.Globalization;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Reports;

/// <summary>The sentences a report is shown as.</summary>
public static class ReportWords
{
    public static string Of(StartReport report)
    {
        var (wanted, failed) = (report.WereToStart.ToList(), report.NotReady.ToList());
        var within =
            report.Took > TimeSpan.Zero
                ? $" within {report.Took.TotalSeconds.ToString("0.0", CultureInfo.InvariantCulture)} s"
                : "";
        var notBack = report.NotBack.ToList();
        var over = report.Over.ToList();
        return $"{wanted.Count - failed.Count - over.Count} of {wanted.Count} {(wanted.Count == 1 ? "service" : "services")} ready{within}."
            + (over.Count == 0 ? "" : $" Done its work and ended well: {Names(over)}.")
            + (failed.Count == 0 ? "" : $" Not: {Names(failed)}.")
            + (notBack.Count == 0 ? "" : $" A reboot would not bring back: {Names(notBack)} (begin.at is not boot).");
    }

    public static string Of(Difference difference, BeginAt at) =>
        difference.Code switch
        {
            DifferenceCode.NotBack => $"It ran before; a boot does not start it (begin.at: {BeginKeys.At.Write(at)}).",
            DifferenceCode.RanNotBefore => "It did not run before.",
            DifferenceCode.Account => $"It runs as {difference.Is}, before as {difference.Was}.",
            DifferenceCode.PortsGone => $"It listened before on {difference.Was}, now no more.",
            DifferenceCode.PortsNew => $"It listens on {difference.Is}, before it did not.",
            DifferenceCode.Pid => $"Its process is {difference.Is}, before it was {difference.Was}.",
            _ => difference.Is ?? "",
        };

    private static string Names(IEnumerable<ReportedStart> services) =>
        string.Join(", ", services.Select(one => one.Name));
}
