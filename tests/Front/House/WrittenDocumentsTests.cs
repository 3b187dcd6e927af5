using System.Globalization;
using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Engine;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Foreign;
using CalmSentry.Server;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Self;
using CalmSentry.Store;
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
        var root = Directory.CreateTempSubdirectory("calm's app ").FullName;
        try
        {
            var places = new Places(root);
            Directory.CreateDirectory(Path.GetDirectoryName(places.Database)!);
            var store = SentryStore.Open(places.Database, places.DatabaseAsides);
            await using var _ = store;
            var house = new CalmSentry.Engine.Services.House(places, store, "", new Clocks(TimeProvider.System));
            using var says = new SayDoors(places, house.Tools.Groups.Mark);
            await using var app = Serve.Build(
                new Rooms(house),
                new(places, says),
                new SettingsFile(places),
                port: null
            );
            var document = await app
                .Services.GetRequiredKeyedService<IOpenApiDocumentProvider>("openapi")
                .GetOpenApiDocumentAsync(TestContext.Current.CancellationToken);
            using var text = new StringWriter(CultureInfo.InvariantCulture) { NewLine = "\n" };
            document.SerializeAsV31(new OpenApiJsonWriter(text));
            Is("openapi.json", text.ToString());
        }
        finally
        {
            Directory.Delete(root, recursive: true);
        }
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
            var isList = key.TryGetProperty("type", out var type) && type.ValueEquals("array"u8);
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
        var several = key.GetProperty("type").ValueKind == JsonValueKind.Array;
        switch (several ? null : key.GetProperty("type").GetString())
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
        return several && key.GetProperty("type")[0].ValueEquals("number"u8) ? "a number" : "text";
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
