using System.Globalization;
using System.Text.Json;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Linux.Foreign;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.OpenApi;

namespace CalmSentry.Tests.Front.House;

/// <summary>
/// The documents, and parts of documents, that are made from the code are the ones it makes. With <c>CALM_WRITE_DOCS=1</c>
/// (<c>tools/docs.sh</c>) they are written anew instead.
/// </summary>
public class WrittenDocumentsTests
{
    private static string Docs(string name) => Path.Combine(Sources.Root, "docs", name);

    private static void Is(string name, string made)
    {
        if (Environment.GetEnvironmentVariable("CALM_WRITE_DOCS") == "1")
            File.WriteAllText(Docs(name), made);
        else
            Assert.True(File.ReadAllText(Docs(name)) == made, $"docs/{name} is old: tools/docs.sh writes it anew");
    }

    /// <summary>A table in a page: the lines from its head to the first that is not of it.</summary>
    private static void HasTable(string name, string head, IEnumerable<string> rows)
    {
        var page = File.ReadAllText(Docs(name));
        var from = page.IndexOf(head, StringComparison.Ordinal);
        Assert.True(from >= 0, $"docs/{name} has no table that begins with {head}");
        var lines = page[from..].Split('\n');
        var old = string.Join('\n', lines.TakeWhile(line => line.StartsWith('|')));
        var made = string.Join('\n', lines.Take(2).Concat(rows));
        Is(name, page[..from] + made + page[(from + old.Length)..]);
    }

    [Fact]
    public async Task The_description_of_the_api()
    {
        await using var server = new ServerApp();
        // Calls are described once it listens: on sockets in a directory of its own.
        await server.App.StartAsync(TestContext.Current.CancellationToken);
        var document = await server
            .App.Services.GetRequiredKeyedService<IOpenApiDocumentProvider>("openapi")
            .GetOpenApiDocumentAsync(TestContext.Current.CancellationToken);
        using var text = new StringWriter(CultureInfo.InvariantCulture) { NewLine = "\n" };
        document.SerializeAsV31(new OpenApiJsonWriter(text));
        Is("openapi.json", text.ToString());
    }

    [Fact]
    public void The_schema_of_a_definition() => Is("definition.schema.json", DefinitionSchema.Write());

    [Fact]
    public void The_reference_of_every_key()
    {
        using var schema = JsonDocument.Parse(DefinitionSchema.Write());
        Is(
            "definition.md",
            $"""
            # The definition

            Every key there is. Made from the [JSON Schema](definition.schema.json) by `tools/docs.sh`; a definition file is YAML 1.2 with one
            service. Lengths of time: `500 ms`, `10 s`, `5 min`, `2 h`, `1 d`. Amounts of memory: `64 MiB`, `1.5 GiB`, `200 MB`.

            | key | means | takes | left out |
            |---|---|---|---|
            {string.Join('\n', Rows(schema.RootElement, ""))}

            """
        );
    }

    private static IEnumerable<string> Rows(JsonElement map, string path)
    {
        foreach (
            var (name, key) in map.GetProperty("properties").EnumerateObject().Select(one => (one.Name, one.Value))
        )
        {
            var left = key.TryGetProperty("x-left-out", out var none) ? none.GetString() : "**needed**";
            yield return $"| `{path}{name}` | {key.GetProperty("description").GetString()} | {Takes(key)} | {left} |";
            var isList =
                key.TryGetProperty("type", out var type)
                && type.ValueKind == JsonValueKind.String
                && type.ValueEquals("array"u8);
            var inner =
                key.TryGetProperty("properties", out _) ? key
                : isList && key.GetProperty("items").TryGetProperty("anyOf", out var kinds) ? kinds[0]
                : default;
            if (inner.ValueKind == JsonValueKind.Object && inner.TryGetProperty("properties", out _))
                foreach (var row in Rows(inner, $"{path}{name}{(isList ? "[]" : "")}."))
                    yield return row;
        }
    }

    private static string Takes(JsonElement key)
    {
        if (key.TryGetProperty("enum", out var words))
            return string.Join(", ", words.EnumerateArray().Select(word => $"`{word.GetString()}`"));
        if (key.TryGetProperty("properties", out _))
            return "keys with values";
        var type = key.TryGetProperty("type", out var given) ? given : default;
        switch (type.ValueKind == JsonValueKind.String ? type.GetString() : null)
        {
            case "boolean":
                return "`true`, `false`";
            case "object":
                return "names with values";
            case "array":
                return !key.GetProperty("items").TryGetProperty("anyOf", out var kinds) ? "a list of texts"
                    : kinds.GetArrayLength() > 1 ? "a list of maps or names"
                    : "a list of maps";
        }

        if (key.TryGetProperty("examples", out var examples))
            return $"text, such as `{examples[0].GetString()}`";
        return type.ValueKind == JsonValueKind.Array && type[0].ValueEquals("number"u8) ? "a number" : "text";
    }

    /// <summary>What people may be told of, what is urgent first.</summary>
    [Fact]
    public void The_table_of_topics() =>
        HasTable(
            "being-told.md",
            "| topic |",
            Enum.GetValues<Topic>()
                .OrderBy(topic => Topics.Of(topic).Urgency == Urgency.Urgent ? 0 : 1)
                .Select(topic =>
                    $"| `{Words.Of(topic)}` | {Topics.Of(topic).Meaning} | {Words.Of(Topics.Of(topic).Urgency).Replace('-', ' ')} |"
                )
        );

    /// <summary>The places that root touches and others can write to.</summary>
    [Fact]
    public void The_list_of_places() =>
        HasTable(
            "security.md",
            "| place | what is there |",
            Ground.All.Select(one =>
                $"| {one.Name} | {one.What} | {$"{one.Does}".ToLowerInvariant()} | {LinksInWords(one.Links)} | {one.Stops} |"
            )
        );

    private static string LinksInWords(Links links) =>
        links switch
        {
            Links.OfRoot => "root's, where root alone writes",
            Links.All => "all",
            _ => "none",
        };
}
