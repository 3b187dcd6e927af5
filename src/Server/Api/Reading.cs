using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Settling;
using CalmSentry.Linux.Boot;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>A definition as somebody sent it.</summary>
/// <param name="Definition">Null when it has errors.</param>
/// <param name="Given">What was sent, completed: to be kept.</param>
/// <param name="Problem">The answer to send when it has errors.</param>
internal sealed record Sent(
    Definition? Definition,
    MapNode Given,
    IReadOnlyList<DefinitionError> Errors,
    IResult? Problem
)
{
    /// <summary>The files it came from; null: it came from none.</summary>
    public string? Source { get; init; }

    /// <summary>It is what these files say.</summary>
    public SettledAs? Settled { get; init; }
}

/// <summary>From what somebody sent, JSON or YAML (RFC 9512), to a definition.</summary>
internal static class Reading
{
    /// <param name="under">What the body is laid over: the definition to be adjusted, or the one to be like.</param>
    public static async Task<Sent> Read(HttpRequest request, Caller caller, MapNode? under = null)
    {
        var (text, problem) = await Incoming.Text(request, Incoming.LongestDefinition).ConfigureAwait(false);
        if (problem is not null)
            return new(null, new MapNode([]), [], problem);
        if (request.ContentType?.StartsWith(FilesDocument.MediaType, StringComparison.OrdinalIgnoreCase) == true)
            return FromFiles(text!, caller);
        var (node, error) = Parse(text!, request.ContentType);
        if (error is not null)
            return Failed([error], ProblemCode.MalformedBody);
        if (node is not MapNode map)
            return Failed([new("definition", node!.InWords, "keys with values", node!.Place)]);
        if (under is not null && DefinitionTrees.NotTaken(map) is { Count: > 0 } unknown)
            return Failed(unknown);
        if (under is not null)
            map = DefinitionTrees.Overlay(under, map);
        var sent = Of(Completion.Of(map, caller.Account));
        // A file of its own is kept as it is written; JSON is what clients make of flags.
        return sent.Definition is not { } whole || under is not null || !IsYaml(request.ContentType)
            ? sent
            : sent with
            {
                Source = FileSet.Write(
                    new(new Dictionary<string, string> { [$"{whole.Name}.yaml"] = text! })
                    {
                        Take = $"{whole.Name}.yaml",
                    }
                ),
            };
    }

    /// <summary>A definition with the files that it is put together from.</summary>
    private static Sent FromFiles(string text, Caller caller)
    {
        if (FileSet.Source(text) is not { Take: { } own } document || !document.Files.ContainsKey(own))
            return Failed(
                [new("definition", "no files", "files, and the one of them that is taken")],
                ProblemCode.MalformedBody
            );
        // What a client made of flags is kept as a file for people.
        if (document.Files[own].StartsWith('{') && JsonNodes.Read(document.Files[own]).Node is { } made)
            document = document with
            {
                Files = new Dictionary<string, string>(document.Files) { [own] = YamlNodes.Write(made) },
            };
        var files = FileSet.Read(document, Machine.HostName, caller.Account);
        return files is { Errors: [], Services: [var one] }
            ? Of(files.Given[own]) with
            {
                Source = one.Source,
            }
            : Failed([.. files.Errors.Select(error => error.Error with { Key = $"{error.File}: {error.Error.Key}" })]);
    }

    private static bool IsYaml(string? contentType) =>
        contentType?.Contains("yaml", StringComparison.OrdinalIgnoreCase) == true;

    public static Sent Of(MapNode map)
    {
        var (definition, errors) = DefinitionReader.Read(map);
        return definition is null ? Failed(errors) with { Given = map } : new(definition, map, [], null);
    }

    private static Sent Failed(IReadOnlyList<DefinitionError> errors, ProblemCode code = ProblemCode.DefinitionInvalid)
    {
        var mistakes = errors.Select(Problems.Of).ToList();
        return new(
            null,
            new MapNode([]),
            errors,
            Problems.Of(
                400,
                code,
                "The definition has errors",
                string.Join("\n", mistakes.Select(mistake => mistake.Text)),
                "Nothing was changed. Correct what is named, and give it again.",
                mistakes
            )
        );
    }

    private static (Node? Node, DefinitionError? Error) Parse(string text, string? contentType) =>
        IsYaml(contentType) ? YamlNodes.Read(text) : JsonNodes.Read(text);
}
