using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// The keys of a definition as a JSON Schema (2020-12), so that editors complete and check definition files.
/// </summary>
public static class DefinitionSchema
{
    public static string Write() => Write(DefinitionKeys.All);

    public static string Write(IReadOnlyList<Key> keys)
    {
        using var stream = new MemoryStream();
        using (
            var json = new Utf8JsonWriter(
                stream,
                new JsonWriterOptions { Indented = true, Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping }
            )
        )
        {
            json.WriteStartObject();
            json.WriteString("$schema", "https://json-schema.org/draft/2020-12/schema");
            json.WriteString("title", "Calm Sentry definition");
            json.WriteString("description", "One service: a program and how it is kept running.");
            Map(json, keys, new(InList: false, AtLaunch: false));
            json.WriteEndObject();
        }

        return Encoding.UTF8.GetString(stream.ToArray()) + "\n";
    }

    /// <summary>Where a key stands: what is in a list has no flag of its own, and what is above it may wait for a launch.</summary>
    private readonly record struct At(bool InList, bool AtLaunch);

    private static void Map(Utf8JsonWriter json, IReadOnlyList<Key> keys, At at)
    {
        json.WriteString("type", "object");
        json.WriteBoolean("additionalProperties", false);
        var required = keys.Where(key => key.Default is null).ToList();
        if (required.Count > 0)
        {
            json.WriteStartArray("required");
            foreach (var key in required)
                json.WriteStringValue(key.Name);
            json.WriteEndArray();
        }

        json.WriteStartObject("properties");
        foreach (var key in keys.Where(key => !key.IsHidden))
        {
            json.WriteStartObject(key.Name);
            json.WriteString("title", key.Label);
            json.WriteString("description", key.About);
            if (key.Default is not null)
                json.WriteString("x-left-out", key.Default);
            if (key.Kinds.Count > 0)
                Words(json, "x-kinds", key.Kinds);
            if (key.Only.Count > 0)
                Words(json, "x-with", key.Only);
            if (key.Flag is not null && !at.InList)
                json.WriteString("x-flag", $"--{key.Flag}");
            if (!at.InList)
                json.WriteBoolean("x-holds-at-once", key.AtOnce || !(at.AtLaunch || key.AtLaunch));
            Value(json, key, at with { AtLaunch = !key.AtOnce && (at.AtLaunch || key.AtLaunch) });
            if (key.Example is not null && key.Type is KeyType.Text)
            {
                json.WriteStartArray("examples");
                json.WriteStringValue(key.Example.Trim('"'));
                json.WriteEndArray();
            }

            json.WriteEndObject();
        }

        json.WriteEndObject();
    }

    private static void Value(Utf8JsonWriter json, Key key, At at)
    {
        switch (key.Type)
        {
            case KeyType.Map:
                Map(json, key.Inner, at with { InList = at.InList || key.Kinds.Count > 0 });
                break;
            case KeyType.Choice:
                Words(json, "enum", key.Choices!);
                break;
            case KeyType.Switch:
                if (key.Pattern is null)
                    json.WriteString("type", "boolean");
                else
                {
                    Types(json, "boolean", "string");
                    json.WriteString("pattern", key.Pattern);
                }

                break;
            case KeyType.Number:
                Types(json, "number", "string");
                break;
            case KeyType.Texts or KeyType.Command:
                json.WriteString("type", "array");
                json.WriteStartObject("items");
                Types(json, "string", "number", "boolean");
                json.WriteEndObject();
                break;
            case KeyType.Pairs:
                json.WriteString("type", "object");
                json.WriteStartObject("propertyNames");
                json.WriteString("pattern", key.Pattern);
                json.WriteEndObject();
                json.WriteStartObject("additionalProperties");
                if (key.Choices is null)
                    Types(json, "string", "number", "boolean");
                else
                    Words(json, "enum", key.Choices);
                json.WriteEndObject();
                break;
            case KeyType.Items or KeyType.NamesOrItems:
                json.WriteString("type", "array");
                json.WriteStartObject("items");
                json.WriteStartArray("anyOf");
                json.WriteStartObject();
                Map(json, key.Inner, at with { InList = true });
                json.WriteEndObject();
                if (key.Type == KeyType.NamesOrItems)
                {
                    json.WriteStartObject();
                    json.WriteString("type", "string");
                    json.WriteString("pattern", key.Pattern);
                    json.WriteEndObject();
                }

                json.WriteEndArray();
                json.WriteEndObject();
                break;
            case KeyType.Text when key.Inner.Count > 0:
                json.WriteStartArray("anyOf");
                json.WriteStartObject();
                Types(json, "string", "number");
                if (key.Pattern is not null)
                    json.WriteString("pattern", key.Pattern);
                json.WriteEndObject();
                json.WriteStartObject();
                Map(json, key.Inner, at with { InList = true });
                json.WriteEndObject();
                json.WriteEndArray();
                break;
            default:
                // YAML reads 0, 7411 or 0-1 as what they look like; a definition takes the text of them.
                Types(json, key.OrList ? ["string", "number", "array"] : ["string", "number"]);
                if (key.Pattern is not null)
                    json.WriteString("pattern", key.Pattern);
                break;
        }
    }

    private static void Words(Utf8JsonWriter json, string name, IReadOnlyList<string> words)
    {
        json.WriteStartArray(name);
        foreach (var word in words)
            json.WriteStringValue(word);
        json.WriteEndArray();
    }

    private static void Types(Utf8JsonWriter json, params string[] types)
    {
        json.WriteStartArray("type");
        foreach (var type in types)
            json.WriteStringValue(type);
        json.WriteEndArray();
    }
}
