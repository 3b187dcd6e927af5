using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Settling;
using CalmSentry.Tests.Core.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Engine.Settling;

/// <summary>Definitions to files and back: the same comes back, and what people wrote stays.</summary>
public class ExportingTests
{
    private static Definition Back(FilesDocument files)
    {
        var set = FileSet.Read(files, "skerry", "root");
        Assert.Empty(set.Errors);
        return Assert.Single(set.Services).Definition;
    }

    private static void Same(Definition one, Definition other) =>
        Assert.Empty(DefinitionChanges.Between(DefinitionWriter.Write(one), DefinitionWriter.Write(other)));

    [Fact]
    public void Any_definition_comes_back_from_its_file() =>
        AnyDefinition.Any.Sample(definition =>
        {
            var given = DefinitionWriter.Write(definition);
            Same(definition, Back(Exporting.Of(definition, given, null, "skerry")));
        });

    /// <summary>A file as somebody may write it: each key with a comment, of maps before and within them.</summary>
    private static string Commented(MapNode map) =>
        string.Concat(
            map.Entries.Select(entry =>
                string.Concat(
                    $"# of {entry.Key}\n{YamlNodes.Write(new MapNode([entry]))}"
                        .TrimEnd('\n')
                        .Split('\n')
                        .Select(line => $"{line}\n")
                )
            )
        );

    [Fact]
    public void A_file_with_comments_keeps_them_whatever_is_changed() =>
        Gen.Select(AnyDefinition.Any, AnyDefinition.Any)
            .Sample(
                (before, after) =>
                {
                    after = after with { Name = before.Name };
                    var text = Commented(DefinitionWriter.Write(before));
                    var source = new FilesDocument(new Dictionary<string, string> { ["own.yaml"] = text })
                    {
                        Take = "own.yaml",
                    };
                    Same(before, Back(source));
                    var changed = Exporting.Of(after, DefinitionWriter.Write(after), source, "skerry");
                    Same(after, Back(changed));
                    var kept = changed.Files["own.yaml"];
                    foreach (var (key, value) in DefinitionWriter.Write(after).Entries)
                        if (text.Contains($"# of {key}\n", StringComparison.Ordinal))
                            Assert.Contains($"# of {key}\n", kept, StringComparison.Ordinal);
                }
            );

    private const string File = """
        # The lamp of the quay.
        name: lamp   # short
        program:
          path: /bin/sleep
          # how long
          arguments:
            - 600
            - "7 s"   # and a bit
        identity: { account: nobody }   # nobody's
        begin:
          at: boot
          # waits
          needs:
            - service: bell   # rings first
        """;

    [Theory]
    [InlineData("title", "Lamp", "needs:\n    - service: bell   # rings first\ntitle: Lamp\n")]
    [InlineData("name", "lamps", "name: lamps   # short\n")]
    [InlineData("begin.at", "request", "  at: request\n  # waits\n")]
    [InlineData("identity.account", "skerry", "identity: { account: skerry }   # nobody's\n")]
    [InlineData("identity.umask", "0027", "identity: { account: nobody, umask: 0027 }   # nobody's\n")]
    [InlineData("program.directory", "/srv", "    - \"7 s\"   # and a bit\n  directory: /srv\nidentity")]
    [InlineData("begin.at", null, "begin:\n  # waits\n  needs:\n")]
    [InlineData("resources.memory", "64 MiB", "rings first\nresources:\n  memory: 64 MiB\n")]
    public void What_is_changed_is_changed_in_its_place(string key, string? value, string has)
    {
        var map = (MapNode)YamlNodes.Read(File).Node!;
        var parts = key.Split('.');
        Node put = value is null ? new NullNode() : new ScalarNode(value);
        foreach (var part in parts.Reverse())
            put = new MapNode([KeyValuePair.Create(part, put)]);
        var text = YamlText.Saying(File, DefinitionTrees.Overlay(map, (MapNode)put));
        Assert.True(text.Contains(has, StringComparison.Ordinal), text);
        // All that was not touched stands as it did.
        var gone = File.Split('\n').Except(text.Split('\n')).ToList();
        Assert.True(gone.Count <= 1, string.Join('\n', gone));
    }

    [Fact]
    public void Of_a_list_that_changes_its_comments_stand_above_it()
    {
        var map = (MapNode)YamlNodes.Read(File).Node!;
        var wanted = DefinitionTrees.Overlay(map, (MapNode)YamlNodes.Read("program: { arguments: [900] }").Node!);
        Assert.Contains(
            "  # how long\n  # and a bit\n  arguments: [900]\n",
            YamlText.Saying(File, wanted),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public void A_service_made_from_a_base_goes_back_to_it_with_its_own_keys_in_its_file()
    {
        var files = new FilesDocument(
            new Dictionary<string, string>
            {
                ["base.yaml"] =
                    "format: calm-sentry-base/1\nblanks: { port: { is: port } }\nprogram: { path: /srv/board, arguments: [\"{{port}}\"] }\nlabels: [boards]\n",
                ["north.yaml"] = "# north\nname: north\nfrom: base.yaml\nfill: { port: 7411 }   # free\n",
            }
        )
        {
            Take = "north.yaml",
        };
        var set = FileSet.Read(files, "skerry", "root");
        var given = set.Given["north.yaml"];
        var now = DefinitionTrees.Overlay(
            given,
            (MapNode)YamlNodes.Read("labels: ~\nprogram: { directory: /srv }\n").Node!
        );
        var definition = DefinitionReader.Read(now).Definition!;
        var exported = Exporting.Of(definition, now, files, "skerry");
        Assert.Equal(files.Files["base.yaml"], exported.Files["base.yaml"]);
        Assert.Equal(
            "# north\nname: north\nfrom: base.yaml\nfill: { port: 7411 }   # free\nprogram:\n  directory: /srv\nlabels: ~\n",
            exported.Files["north.yaml"]
        );
        Same(definition, Back(exported));
    }
}
