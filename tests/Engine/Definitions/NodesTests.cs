using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Engine.Definitions;

/// <summary>Definitions as trees: written and read again in either form, and laid over each other.</summary>
public class NodesTests
{
    private static readonly string[] Awkward =
    [
        "null",
        "~",
        "yes",
        "0027",
        "1.5",
        "- a",
        "a: b",
        " leading",
        "trailing ",
        "⛴",
        "---",
        "...",
    ];

    private static readonly Gen<string> Texts = Gen.OneOf(
        Gen.String[Gen.Char.Where(c => c != '\0' && !char.IsSurrogate(c) && c is not ('\uFFFE' or '\uFFFF')), 0, 30],
        Gen.String[Gen.Char["ab \n\t\"'\\:#-{}[]&*!|>%@`,?0~"], 0, 12],
        Gen.Int[0, Awkward.Length - 1].Select(i => Awkward[i])
    );

    private static Gen<Node> Trees(int depth) =>
        depth == 0
            ? Gen.Frequency((6, Texts.Select(text => (Node)new ScalarNode(text))), (1, Gen.Const((Node)new NullNode())))
            : Gen.Frequency(
                (3, Trees(0)),
                (1, Trees(depth - 1).Array[0, 4].Select(items => (Node)new ListNode([.. items]))),
                (
                    2,
                    Gen.Select(Gen.String[Gen.Char["abc-"], 1, 5], Trees(depth - 1))
                        .Array[0, 4]
                        .Select(entries =>
                            (Node)
                                new MapNode([
                                    .. entries
                                        .DistinctBy(entry => entry.Item1)
                                        .Select(entry => KeyValuePair.Create(entry.Item1, entry.Item2)),
                                ])
                        )
                )
            );

    [Fact]
    public void A_tree_written_as_YAML_reads_back_the_same() =>
        Trees(3)
            .Sample(tree =>
            {
                var (read, error) = YamlNodes.Read(YamlNodes.Write(tree));
                Assert.Null(error);
                Assert.Equal(JsonNodes.Write(tree), JsonNodes.Write(read!));
            });

    [Fact]
    public void A_tree_written_as_JSON_reads_back_the_same_as_JSON_and_as_YAML() =>
        Trees(3)
            .Sample(tree =>
            {
                var text = JsonNodes.Write(tree);
                using var json = System.Text.Json.JsonDocument.Parse(text);
                Assert.Equal(text, JsonNodes.Write(JsonNodes.Read(json.RootElement)));
                var (read, error) = YamlNodes.Read(text);
                Assert.Null(error);
                Assert.Equal(text, JsonNodes.Write(read!));
            });

    [Fact]
    public void What_is_laid_over_wins_key_by_key_and_a_key_without_value_takes_one_away()
    {
        static string Laid(string under, string over) =>
            JsonNodes.Write(
                DefinitionTrees.Overlay((MapNode)YamlNodes.Read(under).Node!, (MapNode)YamlNodes.Read(over).Node!)
            );
        Assert.Equal("{\"a\":\"1\",\"b\":\"2\"}", Laid("a: 1", "b: 2"));
        Assert.Equal("{\"m\":{\"x\":\"9\",\"y\":\"2\"}}", Laid("m: { x: 1, y: 2 }", "m: { x: 9 }"));
        Assert.Equal("{\"m\":{\"y\":\"2\"}}", Laid("m: { x: 1, y: 2 }", "m: { x: }"));
        Assert.Equal("{\"l\":[\"3\"]}", Laid("l: [1, 2]", "l: [3]"));
        Assert.Equal("{}", Laid("m: { x: 1 }", "m: ~"));
        Assert.Equal("{\"m\":{\"x\":\"\"}}", Laid("m: { x: 1 }", "m: { x: '' }")); // an empty text is a value
    }

    [Fact]
    public void Laying_the_same_over_it_again_changes_nothing() =>
        Gen.Select(Trees(2), Trees(2))
            .Sample(
                (under, over) =>
                {
                    if (under is not MapNode below || over is not MapNode above)
                        return;
                    var once = DefinitionTrees.Overlay(below, above);
                    Assert.Equal(JsonNodes.Write(once), JsonNodes.Write(DefinitionTrees.Overlay(once, above)));
                }
            );

    [Fact]
    public void Places_are_those_of_the_file()
    {
        var (node, _) = YamlNodes.Read("name: board\nprogram:\n  arguments:\n    - one\n    - two\n");
        var arguments = (ListNode)((MapNode)((MapNode)node!).Entries[1].Value).Entries[0].Value;
        Assert.Equal(new Place(5, 7), arguments.Items[1].Place);
    }
}
