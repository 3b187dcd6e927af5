using System.Text.Json;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Engine.Definitions;

/// <summary>JSON to the node tree a definition is read from, and back.</summary>
internal static class JsonNodes
{
    /// <returns>The tree, or what is wrong and where.</returns>
    public static (Node? Node, DefinitionError? Error) Read(string text)
    {
        var bounds = new NodeBounds();
        try
        {
            using var body = JsonDocument.Parse(text, new JsonDocumentOptions { MaxDepth = NodeBounds.Deepest });
            return (Read(body.RootElement, "", bounds), null);
        }
        catch (NodeBounds.PassedException passed)
        {
            return (null, passed.Error);
        }
        catch (JsonException error)
        {
            return (
                null,
                new(
                    "definition",
                    error.Message.Contains("trailing comma", StringComparison.Ordinal)
                        ? "a comma with nothing behind it"
                        : $"no JSON ({error.Message.Split(" LineNumber:")[0].Split(" Path:")[0].TrimEnd('.')})",
                    "a JSON object, as GET /api/services/NAME shows it under 'definition'",
                    new((int)(error.LineNumber ?? 0) + 1, (int)(error.BytePositionInLine ?? 0) + 1)
                )
            );
        }
    }

    /// <summary>What the store gives back: written by us, checked when it was taken in.</summary>
    public static Node Read(JsonElement element) => Read(element, "", new NodeBounds());

    private static Node Read(JsonElement element, string path, NodeBounds bounds)
    {
        bounds.Count(path, null, 1, 0); // no alias makes more of it than there is
        switch (element.ValueKind)
        {
            case JsonValueKind.Object:
                var entries = new List<KeyValuePair<string, Node>>();
                var keys = new HashSet<string>(StringComparer.Ordinal);
                foreach (var property in element.EnumerateObject())
                {
                    var key = NodeBounds.Text(Name(property), path, null);
                    var at = path.Length == 0 ? key : $"{path}.{key}";
                    if (!keys.Add(key))
                        throw NodeBounds.Twice(at, null);
                    entries.Add(KeyValuePair.Create(key, Read(property.Value, at, bounds)));
                }

                return new MapNode(entries);
            case JsonValueKind.Array:
                return new ListNode([
                    .. element.EnumerateArray().Select((item, i) => Read(item, $"{path}[{i}]", bounds)),
                ]);
            case JsonValueKind.String:
                return new ScalarNode(NodeBounds.Text(String(element), path, null));
            case JsonValueKind.Null:
                return new NullNode();
            default:
                return new ScalarNode(NodeBounds.Text(element.GetRawText(), path, null));
        }
    }

    /// <summary>Half a character (a lone surrogate) may be escaped in JSON, and is no text.</summary>
    private static string String(JsonElement element)
    {
        try
        {
            return element.GetString()!;
        }
        catch (InvalidOperationException)
        {
            return "\0";
        }
    }

    private static string Name(JsonProperty property)
    {
        try
        {
            return property.Name;
        }
        catch (InvalidOperationException)
        {
            return "\0";
        }
    }

    public static string Write(Node node)
    {
        using var stream = new MemoryStream();
        using (var writer = new Utf8JsonWriter(stream))
            Write(writer, node);
        return System.Text.Encoding.UTF8.GetString(stream.ToArray());
    }

    private static void Write(Utf8JsonWriter writer, Node node)
    {
        switch (node)
        {
            case MapNode map:
                writer.WriteStartObject();
                foreach (var (key, value) in map.Entries)
                {
                    writer.WritePropertyName(key);
                    Write(writer, value);
                }

                writer.WriteEndObject();
                break;
            case ListNode list:
                writer.WriteStartArray();
                foreach (var item in list.Items)
                    Write(writer, item);
                writer.WriteEndArray();
                break;
            case ScalarNode scalar:
                writer.WriteStringValue(scalar.Text);
                break;
            default:
                writer.WriteNullValue();
                break;
        }
    }
}
