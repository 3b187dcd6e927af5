using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// The keys of a definition as a JSON Schema (2020-12), so that editors complete and check definition files.
/// </summary>
public static class DefinitionSchema
{
    public static string Write()
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
            Map(json, DefinitionKeys.All);
            json.WriteEndObject();
        }

        return Encoding.UTF8.GetString(stream.ToArray()) + "\n";
    }

    private static void Map(Utf8JsonWriter json, DefinitionKey[] keys)
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
        foreach (var key in keys)
        {
            json.WriteStartObject(key.Name);
            json.WriteString("description", key.About + (key.Default is null ? "" : $" Left out: {key.Default}."));
            Value(json, key);
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

    private static void Value(Utf8JsonWriter json, DefinitionKey key)
    {
        switch (key.Type)
        {
            case KeyType.Map:
                Map(json, key.Inner!);
                break;
            case KeyType.Choice:
                json.WriteStartArray("enum");
                foreach (var choice in key.Choices!)
                    json.WriteStringValue(choice);
                json.WriteEndArray();
                break;
            case KeyType.Switch:
                json.WriteString("type", "boolean");
                break;
            case KeyType.Number:
                Types(json, "number", "string");
                break;
            case KeyType.Texts:
                json.WriteString("type", "array");
                json.WriteStartObject("items");
                Types(json, "string", "number", "boolean");
                json.WriteEndObject();
                break;
            case KeyType.Pairs:
                json.WriteString("type", "object");
                json.WriteStartObject("propertyNames");
                json.WriteString("pattern", "^[A-Za-z_][A-Za-z0-9_]*$");
                json.WriteEndObject();
                json.WriteStartObject("additionalProperties");
                Types(json, "string", "number", "boolean");
                json.WriteEndObject();
                break;
            case KeyType.Items:
                json.WriteString("type", "array");
                json.WriteStartObject("items");
                json.WriteStartArray("anyOf");
                json.WriteStartObject();
                Map(json, key.Inner!);
                json.WriteEndObject();
                if (key.Name == "secrets")
                {
                    json.WriteStartObject();
                    json.WriteString("type", "string");
                    json.WriteString("pattern", key.Inner![0].Pattern);
                    json.WriteEndObject();
                }

                json.WriteEndArray();
                json.WriteEndObject();
                break;
            default:
                // YAML reads 0, 7411 or 0-1 as what they look like; a definition takes the text of them.
                Types(json, "string", "number");
                if (key.Pattern is not null)
                    json.WriteString("pattern", key.Pattern);
                break;
        }
    }

    private static void Types(Utf8JsonWriter json, params string[] types)
    {
        json.WriteStartArray("type");
        foreach (var type in types)
            json.WriteStringValue(type);
        json.WriteEndArray();
    }
}
