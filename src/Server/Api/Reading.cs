using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;
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
);

/// <summary>From what somebody sent, JSON or YAML (RFC 9512), to a definition.</summary>
internal static class Reading
{
    /// <param name="under">What the body is laid over: the definition to be adjusted, or the one to be like.</param>
    public static async Task<Sent> Read(HttpRequest request, Caller caller, MapNode? under = null)
    {
        var (text, problem) = await Incoming.Text(request, Incoming.LongestDefinition).ConfigureAwait(false);
        if (problem is not null)
            return new(null, new MapNode([]), [], problem);
        var (node, error) = Parse(text!, request.ContentType);
        if (error is not null)
            return Failed([error], ProblemCode.MalformedBody);
        if (node is not MapNode map)
            return Failed([new("definition", node!.InWords, "keys with values", node!.Place)]);
        if (under is not null && DefinitionTrees.NotTaken(map) is { Count: > 0 } unknown)
            return Failed(unknown);
        if (under is not null)
            map = DefinitionTrees.Overlay(under, map);
        return Of(Complete(map, caller));
    }

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
        contentType?.Contains("yaml", StringComparison.OrdinalIgnoreCase) == true
            ? YamlNodes.Read(text)
            : JsonNodes.Read(text);

    /// <summary>
    /// A name with spaces becomes the title; the account left out is the one of whoever asks; a script's interpreter is
    /// pinned.
    /// </summary>
    private static MapNode Complete(MapNode map, Caller caller)
    {
        var entries = map.Entries.ToList();
        var at = entries.FindIndex(entry => entry is { Key: "name", Value: ScalarNode });
        if (
            at >= 0
            && entries[at].Value is ScalarNode { Text: var name } node
            && !ServiceName.IsValid(name)
            && ServiceName.From(name) is { Length: > 0 } made
        )
        {
            entries[at] = KeyValuePair.Create("name", (Node)new ScalarNode(made, node.Place));
            if (entries.TrueForAll(entry => entry.Key != "title"))
                entries.Add(KeyValuePair.Create("title", (Node)new ScalarNode(name.Trim(), node.Place)));
        }

        if (caller.Account != "root")
            AddTo(entries, "identity", "account", caller.Account);
        if (
            entries.Find(entry => entry.Key == "program").Value is MapNode program
            && program.Entries.All(entry => entry.Key != "with")
            && program.Entries.FirstOrDefault(entry => entry.Key == "path").Value is ScalarNode { Text: var path }
            && Interpreter(path) is { } interpreter
        )
            AddTo(entries, "program", "with", interpreter);
        return new MapNode(entries, map.Place);
    }

    /// <summary>For a file that is not executed by itself, the best interpreter there is on this machine.</summary>
    private static string? Interpreter(string path) =>
        LaunchWords.NeedsInterpreter(path) ? Interpreters.Best(path)?.Path : null;

    private static void AddTo(List<KeyValuePair<string, Node>> entries, string part, string key, string value)
    {
        var added = KeyValuePair.Create(key, (Node)new ScalarNode(value));
        var at = entries.FindIndex(entry => entry.Key == part);
        if (at < 0)
            entries.Add(KeyValuePair.Create(part, (Node)new MapNode([added])));
        else if (entries[at].Value is MapNode map && map.Entries.All(entry => entry.Key != key))
            entries[at] = KeyValuePair.Create(part, (Node)new MapNode([.. map.Entries, added], map.Place));
    }
}
