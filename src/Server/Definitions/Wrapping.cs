using System.Text.Json;
using CalmSentry.Core.Definitions;
using CalmSentry.Linux.Accounts;
using CalmSentry.Server.Api;
using CalmSentry.Server.Keepers;
using CalmSentry.Server.Services;
using CalmSentry.Server.SignIn;

namespace CalmSentry.Server.Definitions;

/// <summary>From what somebody sent to a definition that could be launched on this host, or the one problem that prevents it.</summary>
internal static class Wrapping
{
    public static async Task<(Definition? Definition, string Document, IResult? Problem)> Read(HttpRequest request, Caller caller, House house)
    {
        Node node;
        try
        {
            using var body = await JsonDocument.ParseAsync(request.Body, cancellationToken: request.HttpContext.RequestAborted).ConfigureAwait(false);
            node = JsonNodes.Read(body.RootElement);
        }
        catch (JsonException error)
        {
            var problem = Problems.Of(
                400, "malformed-body", "Not JSON", $"The body is not JSON: line {(error.LineNumber ?? 0) + 1}, column {(error.BytePositionInLine ?? 0) + 1}: {error.Message.Split(" LineNumber:")[0]}",
                "Send a definition as a JSON object, as GET /api/services/NAME shows it under 'definition'.");
            return (null, "", problem);
        }

        if (node is MapNode map) node = Complete(map, caller);
        var (definition, errors) = DefinitionReader.Read(node);
        if (definition is null)
        {
            var told = errors.Select(error => error.ToString()).ToList();
            return (null, "", Problems.Of(400, "definition-invalid", "The definition has errors", string.Join("\n", told), "Mend what is named and send it again; nothing was registered.", told));
        }

        return (definition, JsonNodes.Write(node), Refusal(definition, caller));
    }

    /// <summary>A name with spaces becomes the title; the account left out is the one of whoever asks.</summary>
    private static MapNode Complete(MapNode map, Caller caller)
    {
        var entries = map.Entries.ToList();
        var at = entries.FindIndex(entry => entry is { Key: "name", Value: ScalarNode });
        if (at >= 0 && entries[at].Value is ScalarNode { Text: var name } && !ServiceName.IsValid(name) && ServiceName.From(name) is { Length: > 0 } made)
        {
            entries[at] = KeyValuePair.Create("name", (Node)new ScalarNode(made));
            if (entries.TrueForAll(entry => entry.Key != "title")) entries.Add(KeyValuePair.Create("title", (Node)new ScalarNode(name.Trim())));
        }

        if (entries.TrueForAll(entry => entry.Key != "identity") && caller.Account != "root")
            entries.Add(KeyValuePair.Create("identity", (Node)new MapNode([KeyValuePair.Create("account", (Node)new ScalarNode(caller.Account))])));
        return new MapNode(entries, map.Place);
    }

    private static IResult? Refusal(Definition definition, Caller caller)
    {
        if (definition.Account.Length == 0)
        {
            return Problems.Of(
                400, "account-needed", "Which account?", $"You are {caller.Account}, and a service runs as root only when that is said.",
                "Say --account NAME (a dedicated account is best), or --account root if it must be.");
        }

        if (Account.Named(definition.Account) is not { } account)
            return Problems.Of(422, "account-missing", "No such account", $"This host has no account named '{definition.Account}'.", "Make it first (adduser --system), or name another.");
        if (Account.OwnId != 0 && account.Uid != Account.OwnId)
        {
            return Problems.Of(
                422, "account-not-possible", "Not possible without root", $"This sentry runs as {Account.NameOf(Account.OwnId)} and can run services only as that account, not as {definition.Account}.",
                "Run the sentry as root, or leave --account out.");
        }

        if (LaunchWords.Fault(definition.Program.Path) is { } fault) return Problems.Of(422, fault.Code, "This program cannot be run", Sentence(fault.Words), Sentence(fault.Next));
        if (definition.Program.Directory is { } directory && !Directory.Exists(directory))
            return Problems.Of(422, "directory-missing", "No such directory", $"The directory {directory} is not there.", "Make it, or name another with --directory.");
        return null;
    }

    private static string Sentence(string words) => char.ToUpperInvariant(words[0]) + words[1..] + ".";
}
