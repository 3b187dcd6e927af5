using System.Text.Json;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Server.Definitions;

/// <summary>JSON to the node tree a definition is read from, and back.</summary>
internal static class JsonNodes
{
    public static Node Read(JsonElement element) => element.ValueKind switch
    {
        JsonValueKind.Object => new MapNode([.. element.EnumerateObject().Select(property => KeyValuePair.Create(property.Name, Read(property.Value)))]),
        JsonValueKind.Array => new ListNode([.. element.EnumerateArray().Select(Read)]),
        JsonValueKind.String => new ScalarNode(element.GetString()!),
        JsonValueKind.Null => new NullNode(),
        _ => new ScalarNode(element.GetRawText()),
    };

    public static string Write(Node node)
    {
        using var stream = new MemoryStream();
        using (var writer = new Utf8JsonWriter(stream)) Write(writer, node);
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
                foreach (var item in list.Items) Write(writer, item);
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
