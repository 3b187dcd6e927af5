using System.Text.Json.Nodes;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>
/// From what versions up to store version 5 wrote. They stored the types of the core as they were: members by their own
/// names, enumerations by theirs, lengths of time as <c>00:00:10</c>.
/// </summary>
internal static class FromForm1
{
    private static readonly HashSet<string> Enumerations =
    [
        "phase",
        "cause",
        "step",
        "afterwards",
        "kind",
        "switch",
        "role",
    ];

    private static readonly HashSet<string> Lengths = ["length", "ended-after"];

    public static JsonNode Situation(JsonNode old) => Named(old);

    public static JsonNode Evidence(JsonNode old) => Named(old);

    public static JsonNode Origin(JsonNode old) => Named(old);

    /// <summary>Steps were a list without anything around it.</summary>
    public static JsonNode Steps(JsonNode old) => new JsonObject { ["steps"] = Named(old) };

    /// <summary>A live run's group and mark were named after its service.</summary>
    public static JsonNode Labelled(JsonNode situation, string service)
    {
        if (situation["run"] is JsonObject run)
            run["label"] = service;
        return situation;
    }

    private static JsonNode Named(JsonNode node) =>
        node switch
        {
            JsonArray list => new JsonArray([.. list.Select(item => item is null ? null : Named(item))]),
            JsonObject map => new JsonObject(
                map.Where(entry => entry.Value is not null)
                    .Select(entry =>
                        KeyValuePair.Create(Words.Dashed(entry.Key), Value(Words.Dashed(entry.Key), entry.Value!))
                    )
            ),
            _ => node.DeepClone(),
        };

    private static JsonNode? Value(string name, JsonNode value)
    {
        if (value is not JsonValue plain)
            return Named(value);
        if (Enumerations.Contains(name))
            return Words.Dashed((string)plain!);
        return Lengths.Contains(name)
            ? Micros.Of(TimeSpan.Parse((string)plain!, System.Globalization.CultureInfo.InvariantCulture))
            : plain.DeepClone();
    }
}
