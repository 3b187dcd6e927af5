using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Text;

namespace CalmSentry.Inspection.Drills;

/// <summary>Reports as the API shows them.</summary>
internal static class ReportViews
{
    public static BeginReport Of(StartReport report) =>
        new()
        {
            Kind = report.Kind,
            Began = report.Began,
            Booted = report.Booted,
            Done = report.Done,
            CameTrue = report.CameTrue,
            Said = ReportWords.Of(report),
            By = report.By?.Name,
            TookMs = report.Took.TotalMilliseconds,
            LoggedIn = report.LoggedIn,
            Stops = [.. report.Stops.Select(Of)],
            Services = [.. report.Services.Select(Of)],
        };

    private static StopView Of(ReportedStop stop) =>
        new(stop.Name, stop.From.TotalMilliseconds, stop.Took.TotalMilliseconds, stop.Forced);

    private static BeginView Of(ReportedStart service) =>
        new()
        {
            Name = service.Name,
            Title = service.Title,
            At = BeginKeys.At.Write(service.At),
            Came = Words.Of(service.Came),
            WantedMs = service.Wanted?.TotalMilliseconds,
            LaunchedMs = service.Launched?.TotalMilliseconds,
            ProvenMs = service.Proven?.TotalMilliseconds,
            Waited =
            [
                .. service.Waited.Select(one => new WaitedView(one.For, one.Length.TotalMilliseconds, one.PassedOver)),
            ],
            Proof = service.Proof,
            UsualMs = service.Usual?.TotalMilliseconds,
            Tries = service.Tries,
            Why = service.Why,
            Pid = service.Pid,
            Account = service.Account,
            Ports = service.Ports,
            Differences = [.. service.Differences.Select(one => ReportWords.Of(one, service.At))],
        };
}
