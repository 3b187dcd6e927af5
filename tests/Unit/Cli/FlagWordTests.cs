using System.Text.Json;
using CalmSentry.Cli.Commands;
using CalmSentry.Core.Definitions;
using CalmSentry.Server.Definitions;
using CalmSentry.Tests.Unit.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Unit.Cli;

/// <summary>Needs, proofs, watches and steps as words: what a command is shown as can be typed again.</summary>
public class FlagWordTests
{
    [Fact]
    public void Any_need_reads_back_from_its_word() =>
        DefinitionTests.Needs.Sample(need =>
            Assert.Equal(
                need,
                Read($$"""{"needs":[{{BeginFlags.Need(BeginWords.Of(need)).ToJsonString()}}]}""").Needs.Single()
            )
        );

    [Fact]
    public void Any_proof_that_has_a_word_reads_back_from_it() =>
        DefinitionTests.Proofs.Sample(proof =>
        {
            if (BeginWords.Of(proof) is { } word)
                Assert.Equivalent(
                    proof,
                    Read($$"""{"proof":{{BeginFlags.Proof(word).ToJsonString()}}}""").Proof,
                    strict: true
                );
        });

    [Fact]
    public void Any_watch_that_has_a_word_reads_back_from_it() =>
        DefinitionTests.Watches.Sample(watch =>
        {
            if (WatchWords.Of(watch) is { } word)
                Assert.Equivalent(
                    watch,
                    Whole($$"""{"watch":[{{WatchFlags.Watch(word).ToJsonString()}}]}""").Watch[0],
                    strict: true
                );
        });

    [Fact]
    public void Any_step_that_has_a_word_reads_back_from_it() =>
        DefinitionTests.Steps.Sample(step =>
        {
            if (WatchWords.Of(step) is { } word)
                Assert.Equivalent(
                    step,
                    Whole($$"""{"wind-down":[{{WatchFlags.Step(word).ToJsonString()}}]}""").WindDown.Single(),
                    strict: true
                );
        });

    private static BeginPart Read(string begin) => Whole($$"""{"begin":{{begin}}}""").Begin;

    /// <summary>A definition with these keys beside those it must have.</summary>
    private static Definition Whole(string keys)
    {
        using var json = JsonDocument.Parse(
            $$"""{"name":"board","program":{"path":"/srv/skerry/board","terminal":true},{{keys[1..]}}"""
        );
        var (definition, errors) = DefinitionReader.Read(JsonNodes.Read(json.RootElement));
        Assert.Empty(errors);
        return definition!;
    }
}
