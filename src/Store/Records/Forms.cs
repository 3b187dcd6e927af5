using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Nodes;
using System.Text.Json.Serialization;
using System.Text.Json.Serialization.Metadata;

namespace CalmSentry.Store.Records;

/// <summary>Something stored as JSON. Its form is its version: what has an older one is brought up when it is read.</summary>
internal interface IRecord
{
    /// <summary>Absent in what form 1 wrote.</summary>
    int Form { get; }
}

/// <summary>The forms of today, and reading and writing in them.</summary>
internal static class Forms
{
    public const int Situation = 2,
        Steps = 2,
        Evidence = 2,
        Origin = 2,
        Entry = 2,
        Report = 2,
        Plan = 1,
        Swap = 1,
        Alert = 1,
        Message = 1,
        Settlement = 1;

    public static string Write<T>(T record, JsonTypeInfo<T> type)
        where T : IRecord => JsonSerializer.Serialize(record, type);

    /// <exception cref="JsonException">It is none of the forms there have been up to this version.</exception>
    public static T Read<T>(string json, JsonTypeInfo<T> type, int today, Func<JsonNode, JsonNode> from1)
        where T : class, IRecord
    {
        var node = JsonNode.Parse(json)!;
        var form = node is JsonObject map && map["form"] is { } number ? (int)number : 1;
        if (form > today)
            throw new JsonException(
                $"this is form {form}, written by a later version; this version reads up to {today}"
            );
        return JsonSerializer.Deserialize(form == 1 ? from1(node) : node, type)!;
    }
}

internal static class Micros
{
    public static long Of(TimeSpan length) => length.Ticks / TimeSpan.TicksPerMicrosecond;

    public static TimeSpan To(long length) => TimeSpan.FromTicks(length * TimeSpan.TicksPerMicrosecond);
}

internal static class ManyRecords
{
    public static ImmutableArray<TTo> ToRecords<TFrom, TTo>(this ImmutableArray<TFrom> from, Func<TFrom, TTo> make) =>
        from.IsDefaultOrEmpty ? [] : [.. from.Select(make)];
}

[JsonSourceGenerationOptions(
    PropertyNamingPolicy = JsonKnownNamingPolicy.KebabCaseLower,
    DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingDefault
)]
[JsonSerializable(typeof(SituationRecord))]
[JsonSerializable(typeof(StepsRecord))]
[JsonSerializable(typeof(EvidenceRecord))]
[JsonSerializable(typeof(OriginRecord))]
[JsonSerializable(typeof(EntryRecord))]
[JsonSerializable(typeof(ReportRecord))]
[JsonSerializable(typeof(PlanRecord))]
[JsonSerializable(typeof(SwapRecord))]
[JsonSerializable(typeof(AlertRecord))]
[JsonSerializable(typeof(MessageRecord))]
[JsonSerializable(typeof(SettledRecord))]
[JsonSerializable(typeof(SettlementRecord))]
[JsonSerializable(typeof(SettleStepRecord))]
internal sealed partial class RecordJson : JsonSerializerContext;
