using System.CommandLine;
using System.Text.Json;
using CalmSentry.Cli.Commands;
using CalmSentry.Cli.Wire;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Definitions;
using CalmSentry.Tests.Core.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Front.Cli;

/// <summary>Needs, proofs, watches and steps as words: what a command is shown as can be typed again.</summary>
public class FlagWordTests
{
    private static readonly string[] LikeFlags = ["", "--account", "--", "-x", "=", "--title=--"];

    [Fact]
    public void Any_need_reads_back_from_its_word() => AnyDefinition.Needs.Sample(need => Check(BeginKeys.Needs, need));

    [Fact]
    public void Any_proof_that_has_a_word_reads_back_from_it() =>
        AnyDefinition.Proofs.Sample(proof => Check(BeginKeys.Proofs, proof, orNone: true));

    [Fact]
    public void Any_watch_that_has_a_word_reads_back_from_it() =>
        AnyDefinition.Watches.Sample(watch => Check(WatchKeys.Watches, watch, orNone: true));

    [Fact]
    public void Any_step_that_has_a_word_reads_back_from_it() =>
        AnyDefinition.Steps.Sample(step => Check(WindDownKeys.Steps, step, orNone: true));

    [Theory]
    [InlineData("network", "{\"network\":\"up\"}")]
    [InlineData("network:eth0,within=2min", "{\"network\":\"eth0\",\"within\":\"2min\"}")]
    [InlineData(
        "path:/mnt/a,b,mounted,follows=hold",
        "{\"path\":\"/mnt/a,b\",\"mounted\":\"true\",\"follows\":\"hold\"}"
    )]
    public void A_need_is_one_word(string word, string json) =>
        Assert.Equal(json, DefinitionFlags.Item("begin.needs", word).ToJsonString());

    [Theory]
    [InlineData("TERM 10s", "{\"signal\":\"TERM\",\"wait\":\"10s\"}")]
    [InlineData("send:close-day\\n,to=tcp 127.0.0.1:7412", "{\"send\":\"close-day\\n\",\"to\":\"tcp 127.0.0.1:7412\"}")]
    [InlineData("http:http://x/,method=PUT,body=a,b", "{\"http\":\"http://x/\",\"method\":\"PUT\",\"body\":\"a,b\"}")]
    public void A_step_is_one_word(string word, string json) =>
        Assert.Equal(json, DefinitionFlags.Item("wind-down", word).ToJsonString());

    [Theory]
    [InlineData("begin.needs", "network,then=hold", "follows, which was called then before")]
    [InlineData("watch", "children-above:3", "tree-above, which was called children-above before")]
    [InlineData("watch", "tcp:127.0.0.1:1,every=1s", "beat, which was called every before")]
    public void A_word_of_earlier_versions_is_refused_with_the_name_of_today(string path, string word, string said) =>
        Assert.Contains(
            said,
            Assert.Throws<Failure>(() => DefinitionFlags.Item(path, word)).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void A_variable_given_twice_has_its_last_value() =>
        Assert.Equal(
            [new("B", "2"), new("A", "")],
            ((MapNode)DefinitionKeys.Find("program.environment")!.FromWords(["A=1", "B=2", "A="])).Entries.Select(
                entry => KeyValuePair.Create(entry.Key, ((ScalarNode)entry.Value).Text)
            )
        );

    [Theory]
    [InlineData("begin.needs", "network,within=1s,within=2s")]
    [InlineData("watch", "tcp:127.0.0.1:1,beat=1s,patience=2,beat=2s")]
    public void An_attribute_given_twice_is_refused(string path, string word) =>
        Assert.Contains(
            " once",
            Assert.Throws<Failure>(() => DefinitionFlags.Item(path, word)).Message,
            StringComparison.Ordinal
        );

    [Fact]
    public void The_command_that_repeats_a_service_makes_the_same_definition() =>
        Gen.Select(AnyDefinition.Any, Gen.OneOf([.. LikeFlags.Select(Gen.Const)]))
            .Sample(
                (definition, begin) =>
                {
                    if (begin.Length > 0)
                        definition = definition with { Title = $"{begin} {definition.Title}".Trim(), Notes = begin };
                    var whole = DefinitionReader.Read(DefinitionWriter.Write(definition)).Definition!;
                    if (DefinitionWriter.Words(whole) is not { } words)
                        return;
                    var (own, program) = CalmSentry.Cli.Program.Split([.. words]);
                    var flags = new DefinitionFlags(DefinitionKeys.All);
                    var command = new Command("any");
                    foreach (var option in flags.All)
                        command.Options.Add(option);
                    var parsed = command.Parse(own, new ParserConfiguration { ResponseFileTokenReplacer = null });
                    Assert.Empty(parsed.Errors);
                    var (again, errors) = DefinitionReader.Read(
                        JsonNodes.Read(
                            JsonDocument.Parse(flags.Definition(parsed, whole.Name, program).ToJsonString()).RootElement
                        )
                    );
                    Assert.Empty(errors);
                    Assert.Empty(DefinitionChanges.Between(whole, again!));
                }
            );

    /// <summary>Whatever is typed behind the flags is a definition or a mistake with words, never a fall.</summary>
    [Fact]
    public void Any_words_are_a_definition_or_a_mistake()
    {
        var flags = new DefinitionFlags(DefinitionKeys.All);
        var command = new Command("any");
        foreach (var option in flags.All)
            command.Options.Add(option);
        var word = Gen.OneOf(
            Gen.String[Gen.Char["ab=,:/ \\\n'\"0"], 0, 8],
            Gen.OneOf(
                Gen.Const("A=1"),
                Gen.Const("A="),
                Gen.Const("="),
                Gen.Const("KEY:file"),
                Gen.Const("network,within=1s,within=1s"),
                Gen.Const("tcp:1:1,beat="),
                Gen.Const("send:a\\,to="),
                Gen.Const("program:'a b"),
                Gen.Const("TERM"),
                Gen.Const("output:^(")
            )
        );
        Gen.Select(Gen.OneOf([.. flags.All.Select(one => Gen.Const(one.Name))]), word)
            .Array[0, 6]
            .Sample(
                given =>
                {
                    var parsed = command.Parse([.. given.SelectMany(one => new[] { one.Item1 + "=" + one.Item2 })]);
                    if (parsed.Errors.Count > 0)
                        return; // said by the parser
                    try
                    {
                        var definition = flags.Definition(parsed, "tide-store", ["/bin/sh"]);
                        DefinitionReader.Read(
                            JsonNodes.Read(JsonDocument.Parse(definition.ToJsonString()).RootElement)
                        );
                    }
                    catch (Failure wrong)
                    {
                        Assert.NotEmpty(wrong.Message);
                    }
                },
                iter: 20_000
            );
    }

    private static void Check<T>(Union<T> union, T one, bool orNone = false)
        where T : class
    {
        if (union.ToWord(one) is not { } word)
        {
            Assert.True(orNone);
            return;
        }

        var written = Assert.IsType<MapNode>(union.FromWord(word));
        Assert.Equal(one, union.Read(MapReader.Of(written)));
    }
}
