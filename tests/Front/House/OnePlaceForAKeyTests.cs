using System.CommandLine;
using System.Text.Json;
using CalmSentry.Cli.Commands;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Tests.Front.House;

/// <summary>
/// A key of a definition is written in one place: its descriptor. A key added there is found in everything that is made
/// of it, without another word about it anywhere.
/// </summary>
public class OnePlaceForAKeyTests
{
    /// <summary>A key that nobody has heard of; its value is kept in the notes.</summary>
    private static readonly Key<Definition> TideMark = KeyOf<Definition>.Value(
        "tide-mark",
        Forms.OneOf("low", "high"),
        definition => definition.Notes.Length == 0 ? null : definition.Notes,
        (definition, mark) => definition with { Notes = mark },
        "Where the water stands when it starts."
    ) with
    {
        Default = "low",
        Was = "water-mark",
        AtLaunch = true,
    };

    private static readonly Shape<Definition> Shape = DefinitionKeys.Shape with
    {
        Keys = [.. DefinitionKeys.Shape.Keys.Where(key => key.Name != "notes"), TideMark],
    };

    [Fact]
    public void It_is_read_and_written()
    {
        var (definition, errors) = Read(("tide-mark", "high"));
        Assert.Empty(errors);
        Assert.Equal("high", definition!.Notes);
        Assert.Contains(
            Shape.Write(definition).Entries,
            entry => entry.Key == "tide-mark" && entry.Value == new ScalarNode("high")
        );
    }

    [Fact]
    public void It_is_refused_with_what_is_allowed() =>
        Assert.Equal(
            "tide-mark: 'ebb'; allowed: low | high",
            Assert.Single(Read(("tide-mark", "ebb")).Errors).ToString()
        );

    [Fact]
    public void A_slip_of_the_pen_and_its_earlier_name_are_hinted_at()
    {
        Assert.Equal("tide-mark", Assert.Single(Read(("tide-mrk", "high")).Errors).Nearest);
        var old = Assert.Single(Read(("water-mark", "high")).Errors);
        Assert.Equal(("water-mark", "tide-mark"), (old.Key, old.Allowed));
    }

    [Fact]
    public void It_is_in_the_schema_and_so_in_the_reference_and_the_console_s_form()
    {
        using var schema = JsonDocument.Parse(DefinitionSchema.Write(Shape.Keys));
        var key = schema.RootElement.GetProperty("properties").GetProperty("tide-mark");
        Assert.Equal(["low", "high"], key.GetProperty("enum").EnumerateArray().Select(one => one.GetString()!));
        Assert.StartsWith(TideMark.About, key.GetProperty("description").GetString(), StringComparison.Ordinal);
        Assert.Equal("--tide-mark", key.GetProperty("x-flag").GetString());
        Assert.False(key.GetProperty("x-holds-at-once").GetBoolean());
    }

    [Fact]
    public void It_is_a_flag_with_help_and_completion_and_its_earlier_flag_is_known()
    {
        var flags = new DefinitionFlags(Shape.Keys);
        var command = new Command("wrap");
        foreach (var option in flags.All)
            command.Add(option);
        var parsed = command.Parse(["--tide-mark", "high"]);
        Assert.Empty(parsed.Errors);
        Assert.Equal("""{"tide-mark":"high"}""", flags.Definition(parsed, null, null).ToJsonString());
        var flag = command.Options.Single(option => option.Name == "--tide-mark");
        Assert.Contains(TideMark.About, flag.Description!, StringComparison.Ordinal);
        Assert.Equal(
            ["high", "low"],
            command
                .Parse("--tide-mark ")
                .GetCompletions()
                .Select(one => one.Label)
                .Where(label => label is "low" or "high")
                .Order()
        );
    }

    [Fact]
    public void It_is_in_the_command_that_wraps_the_service_again() =>
        Assert.Equal(
            ["--tide-mark", "high", "--", "/srv/skerry/board"],
            DefinitionWriter.Words(Read(("tide-mark", "high")).Definition!, Shape)!
        );

    [Fact]
    public void Its_change_is_listed_and_it_is_known_when_it_takes_effect()
    {
        var (low, high) = (Read(("tide-mark", "low")).Definition!, Read(("tide-mark", "high")).Definition!);
        var change = Assert.Single(DefinitionChanges.Between(Shape.Write(low), Shape.Write(high)));
        Assert.Equal("tide-mark is now 'high' (was 'low')", change.ToString());
        Assert.True(DefinitionKeys.Find("tide-mark", Shape.Keys) is { AtLaunch: true });
    }

    /// <summary>What is written about a key a second time goes out of date.</summary>
    [Fact]
    public void No_other_file_of_the_programs_reads_or_writes_a_key_by_its_name()
    {
        var sources = Sources
            .Files("")
            .Where(file =>
                !file.EndsWith("Keys.cs", StringComparison.Ordinal)
                && !file.EndsWith("FindingCodes.cs", StringComparison.Ordinal) // by their dotted names
                && !file.Contains("/Store/Records/", StringComparison.Ordinal) // brings old words up
            )
            .Select(file => (file, text: File.ReadAllText(file)))
            .ToList();
        string[] told =
        [
            "tree-size",
            "steady-after",
            "if-lost",
            "well-within",
            "open-files-above",
            "at-latest",
            "retry-every",
        ];
        Assert.Empty(
            from name in told
            from source in sources
            where source.text.Contains($"\"{name}\"", StringComparison.Ordinal)
            select $"{name} in {source.file}"
        );
    }

    private static (Definition? Definition, IReadOnlyList<DefinitionError> Errors) Read(
        (string Key, string Value) more
    ) =>
        DefinitionReader.Read(
            new MapNode([
                new("name", new ScalarNode("board")),
                new("program", new MapNode([new("path", new ScalarNode("/srv/skerry/board"))])),
                new(more.Key, new ScalarNode(more.Value)),
            ]),
            Shape
        );
}
