using System.Text.Json.Nodes;

namespace CalmSentry.Store.Records;

/// <summary>
/// Definitions as they were given, stored as JSON. What was given in the words of an earlier version is brought up to the
/// words of today once, when the store is opened; only what people give is refused.
/// </summary>
internal static class DocumentForms
{
    /// <summary>The words of today.</summary>
    public const int Today = 2;

    /// <summary>From form 1: watches, needs, and what programs say have words of their own since.</summary>
    public static string From1(string json)
    {
        var document = JsonNode.Parse(json)!;
        Rename(document["program"], "stop", "off");
        Rename(document["resources"], "tasks", "tree-size");
        var proof = document["begin"]?["proof"];
        Rename(proof, "told", "said");
        if (proof is JsonObject said && said["said"] is not null)
            said["said"] = "serves";
        foreach (var need in Items(document["begin"]?["needs"]))
            Rename(need, "then", "follows");
        foreach (var watch in Items(document["watch"]))
        {
            Rename(watch, "every", "beat");
            Rename(watch, "for", "lasting");
            Rename(watch, "then", "follows");
            Rename(watch, "alive-within", "well-within");
            Rename(watch, "children-above", "tree-above");
        }

        return document.ToJsonString();
    }

    private static IEnumerable<JsonNode?> Items(JsonNode? list) => list as JsonArray ?? [];

    /// <summary>In its place: the order of what people wrote is theirs.</summary>
    private static void Rename(JsonNode? node, string was, string now)
    {
        if (node is not JsonObject map || map.IndexOf(was) is not (>= 0 and var at))
            return;
        var value = map[was];
        map.RemoveAt(at);
        map.Insert(at, now, value);
    }
}
