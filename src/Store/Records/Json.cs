using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Telling;

namespace CalmSentry.Store.Records;

/// <summary>What is stored as JSON, to and from the types of the core.</summary>
internal static class SituationJson
{
    public static string Write(Situation now, ClockStamp? saved = null) =>
        Forms.Write(
            SituationRecord.Of(now) with
            {
                Saved = saved is { } at ? new(at.Wall, at.Forward) : null,
            },
            RecordJson.Default.SituationRecord
        );

    /// <summary>The reading of both clocks by which its moments are told; null: of an earlier version.</summary>
    public static ClockStamp? Saved(string json) =>
        Forms.Read(json, RecordJson.Default.SituationRecord, Forms.Situation, FromForm1.Situation).Saved is { } saved
            ? new(saved.Wall, saved.Forward)
            : null;

    public static Situation Read(string json) =>
        Forms.Read(json, RecordJson.Default.SituationRecord, Forms.Situation, FromForm1.Situation).ToCore();

    /// <param name="service">Its name, which its live run's group and mark go by.</param>
    public static string FromVersion5(string json, string service)
    {
        var node = FromForm1.Labelled(FromForm1.Situation(JsonNode.Parse(json)!), service);
        node["form"] = Forms.Situation;
        return node.ToJsonString();
    }
}

internal static class StepsJson
{
    public static string? Write(ImmutableArray<StepTaken> steps) =>
        steps.IsDefaultOrEmpty
            ? null
            : Forms.Write(new StepsRecord(Forms.Steps, StepRecord.Of(steps)), RecordJson.Default.StepsRecord);

    public static ImmutableArray<StepTaken> Read(string? json) =>
        json is null
            ? []
            : StepRecord.ToCore(Forms.Read(json, RecordJson.Default.StepsRecord, Forms.Steps, FromForm1.Steps).Steps);
}

internal static class EvidenceJson
{
    public static string Write(FallEvidence evidence) =>
        Forms.Write(EvidenceRecord.Of(evidence), RecordJson.Default.EvidenceRecord);

    public static FallEvidence Read(string json) =>
        Forms.Read(json, RecordJson.Default.EvidenceRecord, Forms.Evidence, FromForm1.Evidence).ToCore();
}

internal static class OriginJson
{
    public static string? Write(RunOrigin? origin) =>
        origin is null ? null : Forms.Write(OriginRecord.Of(origin), RecordJson.Default.OriginRecord);

    public static RunOrigin Read(string json) =>
        Forms.Read(json, RecordJson.Default.OriginRecord, Forms.Origin, FromForm1.Origin).ToCore();
}

internal static class EntryJson
{
    public static string Write(Entry entry) =>
        Forms.Write(EntryRecord.Of(entry.Fields), RecordJson.Default.EntryRecord);

    /// <param name="fields">Null: of a version that kept a sentence.</param>
    public static Entry Read(string what, string? fields, string text)
    {
        var (kind, read) = (EntryKinds.Find(what) ?? EntryKinds.Other, EntryFields.None);
        if (fields is null)
            return new OtherEntry(kind, read, text);
        // One that is damaged, or was changed by somebody behind the sentry's back, keeps nobody from reading the rest.
        try
        {
            read = Forms.Read(fields, RecordJson.Default.EntryRecord, Forms.Entry, node => node).ToCore();
            return kind.Read(read);
        }
        catch (EntryFieldsException)
        {
            return new OtherEntry(kind, read, $"An entry '{what}' whose fields do not fit it.") { From = read.From };
        }
        catch (Exception error) when (error is JsonException or FormatException or InvalidOperationException)
        {
            return new OtherEntry(kind, read, $"An entry '{what}' whose fields cannot be read.") { From = read.From };
        }
    }
}

internal static class PlanJson
{
    public static string Write(Plan plan, ClockStamp saved) =>
        Forms.Write(PlanRecord.Of(plan) with { Saved = new(saved.Wall, saved.Forward) }, RecordJson.Default.PlanRecord);

    public static (Plan Plan, ClockStamp? Saved) Read(string json)
    {
        var record = Forms.Read(json, RecordJson.Default.PlanRecord, Forms.Plan, node => node);
        return (record.ToCore(), record.Saved is { } saved ? new(saved.Wall, saved.Forward) : null);
    }
}

internal static class AlertJson
{
    public static string Write(Alert alert, ClockStamp saved) =>
        Forms.Write(
            AlertRecord.Of(alert) with
            {
                Saved = new(saved.Wall, saved.Forward),
            },
            RecordJson.Default.AlertRecord
        );

    public static (Alert Alert, ClockStamp? Saved) Read(string json)
    {
        var record = Forms.Read(json, RecordJson.Default.AlertRecord, Forms.Alert, node => node);
        return (record.ToCore(), record.Saved is { } saved ? new(saved.Wall, saved.Forward) : null);
    }
}

internal static class MessageJson
{
    public static string Write(Message message) =>
        Forms.Write(MessageRecord.Of(message), RecordJson.Default.MessageRecord);

    public static Message Read(string json) =>
        Forms.Read(json, RecordJson.Default.MessageRecord, Forms.Message, node => node).ToCore();
}

internal static class SwapJson
{
    public static string Write(Swap swap, ClockStamp saved) =>
        Forms.Write(SwapRecord.Of(swap) with { Saved = new(saved.Wall, saved.Forward) }, RecordJson.Default.SwapRecord);

    public static (Swap Swap, ClockStamp? Saved) Read(string json)
    {
        var record = Forms.Read(json, RecordJson.Default.SwapRecord, Forms.Swap, node => node);
        return (record.ToCore(), record.Saved is { } saved ? new(saved.Wall, saved.Forward) : null);
    }
}
