using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Engine.Settling;

/// <summary>What somebody gave as a definition, made whole by who gave it and by what this machine has.</summary>
internal static class Completion
{
    /// <summary>
    /// A name with spaces becomes the title; the account left out is the one of whoever asks; a script's interpreter is
    /// pinned.
    /// </summary>
    /// <param name="known">Interpreters of files that were looked for before; null: each is looked for.</param>
    public static MapNode Of(MapNode map, string account, Dictionary<string, string?>? known = null)
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

        if (account != "root")
            AddTo(entries, "identity", "account", account);
        if (
            entries.Find(entry => entry.Key == "program").Value is MapNode program
            && program.Entries.All(entry => entry.Key != "with")
            && program.Entries.FirstOrDefault(entry => entry.Key == "path").Value is ScalarNode { Text: var path }
            && Interpreter(path, known) is { } interpreter
        )
            AddTo(entries, "program", "with", interpreter);
        return new MapNode(entries, map.Place);
    }

    /// <summary>For a file that is not executed by itself, the best interpreter there is on this machine.</summary>
    private static string? Interpreter(string path, Dictionary<string, string?>? known)
    {
        if (known?.TryGetValue(path, out var found) == true)
            return found;
        found = LaunchWords.NeedsInterpreter(path) ? Interpreters.Best(path)?.Path : null;
        known?.Add(path, found);
        return found;
    }

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
