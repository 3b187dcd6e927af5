using System.Collections.Immutable;
using System.Text.Json.Nodes;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>How services started together, as it is stored (form 2). Lengths of time are in milliseconds.</summary>
internal sealed record ReportRecord(
    int Form,
    string Kind,
    DateTimeOffset Began,
    DateTimeOffset? Booted,
    bool Done,
    string? By,
    double TookMs,
    ImmutableArray<string>? LoggedIn,
    ImmutableArray<ReportStopRecord>? Stops,
    ImmutableArray<ReportStartRecord>? Services
) : IRecord
{
    public static ReportRecord Of(StartReport report) =>
        new(
            Forms.Report,
            Words.Of(report.Kind),
            report.Began,
            report.Booted,
            report.Done,
            report.By?.Name,
            report.Took.TotalMilliseconds,
            SituationRecord.Some(report.LoggedIn),
            SituationRecord.Some(
                report.Stops.ToRecords(stop => new ReportStopRecord(
                    stop.Name,
                    stop.From.TotalMilliseconds,
                    stop.Took.TotalMilliseconds,
                    stop.Forced
                ))
            ),
            report.Services.ToRecords(ReportStartRecord.Of)
        );

    public StartReport ToCore() =>
        new()
        {
            Kind = Words.To<ReportKind>(Kind),
            Began = Began,
            Booted = Booted,
            Done = Done,
            By = By is { } by ? new(by) : null,
            Took = TimeSpan.FromMilliseconds(TookMs),
            LoggedIn = LoggedIn ?? [],
            Stops = (Stops ?? []).ToRecords(stop => new ReportedStop(
                stop.Name,
                TimeSpan.FromMilliseconds(stop.FromMs),
                TimeSpan.FromMilliseconds(stop.TookMs),
                stop.Forced
            )),
            Services = (Services ?? []).ToRecords(service => service.ToCore()),
        };
}

internal sealed record ReportStopRecord(string Name, double FromMs, double TookMs, bool Forced);

internal sealed record ReportWaitRecord(string For, double Ms, bool PassedOver);

internal sealed record DifferenceRecord(string Code, string? Was, string? Is);

internal sealed record ReportStartRecord
{
    public required string Name { get; init; }

    public required string Title { get; init; }

    public required string At { get; init; }

    public required string Came { get; init; }

    public double? WantedMs { get; init; }

    public double? LaunchedMs { get; init; }

    public double? ProvenMs { get; init; }

    public ImmutableArray<ReportWaitRecord>? Waited { get; init; }

    public string? Proof { get; init; }

    public double? UsualMs { get; init; }

    public int Tries { get; init; }

    public required string Why { get; init; }

    public int? Pid { get; init; }

    public required string Account { get; init; }

    public ImmutableArray<string>? Ports { get; init; }

    public ImmutableArray<DifferenceRecord>? Differences { get; init; }

    public static ReportStartRecord Of(ReportedStart service) =>
        new()
        {
            Name = service.Name,
            Title = service.Title,
            At = BeginKeys.At.Write(service.At),
            Came = Words.Of(service.Came),
            WantedMs = service.Wanted?.TotalMilliseconds,
            LaunchedMs = service.Launched?.TotalMilliseconds,
            ProvenMs = service.Proven?.TotalMilliseconds,
            Waited = SituationRecord.Some(
                service.Waited.ToRecords(one => new ReportWaitRecord(
                    one.For,
                    one.Length.TotalMilliseconds,
                    one.PassedOver
                ))
            ),
            Proof = service.Proof,
            UsualMs = service.Usual?.TotalMilliseconds,
            Tries = service.Tries,
            Why = service.Why,
            Pid = service.Pid,
            Account = service.Account,
            Ports = SituationRecord.Some(service.Ports),
            Differences = SituationRecord.Some(
                service.Differences.ToRecords(one => new DifferenceRecord(Words.Of(one.Code), one.Was, one.Is))
            ),
        };

    public ReportedStart ToCore() =>
        new()
        {
            Name = Name,
            Title = Title,
            At = BeginKeys.At.Read(At, out var at) ? at : default,
            Came = Words.To<Came>(Came),
            Wanted = Length(WantedMs),
            Launched = Length(LaunchedMs),
            Proven = Length(ProvenMs),
            Waited = (Waited ?? []).ToRecords(one => new ReportedWait(
                one.For,
                TimeSpan.FromMilliseconds(one.Ms),
                one.PassedOver
            )),
            Proof = Proof,
            Usual = Length(UsualMs),
            Tries = Tries,
            Why = Why,
            Pid = Pid,
            Account = Account,
            Ports = Ports ?? [],
            Differences = (Differences ?? []).ToRecords(one => new Difference(
                Words.To<DifferenceCode>(one.Code),
                one.Was,
                one.Is
            )),
        };

    private static TimeSpan? Length(double? ms) => ms is { } some ? TimeSpan.FromMilliseconds(some) : null;
}

internal static class ReportJson
{
    public static string Write(StartReport report) =>
        Forms.Write(ReportRecord.Of(report), RecordJson.Default.ReportRecord);

    public static StartReport Read(string json) =>
        Forms.Read(json, RecordJson.Default.ReportRecord, Forms.Report, From1).ToCore();

    /// <summary>
    /// Form 1 was what the API sent: its differences were sentences. Of what was not to start there was one only.
    /// </summary>
    private static JsonNode From1(JsonNode report)
    {
        foreach (var service in report["services"]?.AsArray() ?? [])
        {
            if (service is JsonObject map && map["differences"] is JsonArray sentences)
            {
                var notToStart = (string?)map["came"] == Words.Of(Came.NotBegun);
                map["differences"] = new JsonArray([.. sentences.Select(text => notToStart ? NotBack() : Other(text))]);
            }
        }

        return report;
    }

    private static JsonObject NotBack() => new JsonObject { ["code"] = Words.Of(DifferenceCode.NotBack) };

    private static JsonObject Other(JsonNode? text) =>
        new JsonObject { ["code"] = Words.Of(DifferenceCode.Other), ["is"] = text?.DeepClone() };
}
