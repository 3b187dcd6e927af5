using System.Text.Json;
using CalmSentry.Cli.Commands;
using CalmSentry.Core.Definitions;
using CalmSentry.Server.Definitions;
using CalmSentry.Tests.Unit.Definitions;
using CsCheck;

namespace CalmSentry.Tests.Unit.Cli;

/// <summary>Needs and proofs as words: what a command is shown as can be typed again.</summary>
public class BeginFlagsTests
{
    [Fact]
    public void Any_need_reads_back_from_its_word() => DefinitionTests.Needs.Sample(need =>
        Assert.Equal(need, Read($$"""{"needs":[{{BeginFlags.Need(BeginWords.Of(need)).ToJsonString()}}]}""").Needs.Single()));

    [Fact]
    public void Any_proof_that_has_a_word_reads_back_from_it() => DefinitionTests.Proofs.Sample(proof =>
    {
        if (BeginWords.Of(proof) is { } word) Assert.Equal(proof, Read($$"""{"proof":{{BeginFlags.Proof(word).ToJsonString()}}}""").Proof);
    });

    private static BeginPart Read(string begin)
    {
        using var json = JsonDocument.Parse($$"""{"name":"board","program":{"path":"/srv/skerry/board"},"begin":{{begin}}}""");
        var (definition, errors) = DefinitionReader.Read(JsonNodes.Read(json.RootElement));
        Assert.Empty(errors);
        return definition!.Begin;
    }
}
