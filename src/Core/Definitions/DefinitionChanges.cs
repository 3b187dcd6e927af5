namespace CalmSentry.Core.Definitions;

/// <summary>What differs between two definitions, value by value, in the words of a definition file.</summary>
public static class DefinitionChanges
{
    public static IReadOnlyList<string> Between(Definition before, Definition after)
    {
        var (old, now) = (Flat(DefinitionWriter.Write(before)), Flat(DefinitionWriter.Write(after)));
        return
        [
            .. old
                .Keys.Union(now.Keys)
                .Order(StringComparer.Ordinal)
                .Where(key => old.GetValueOrDefault(key) != now.GetValueOrDefault(key))
                .Select(key =>
                    $"{key} {(now.TryGetValue(key, out var value) ? $"is now '{value}'" : "is no longer set")}{(old.TryGetValue(key, out var was) ? $" (was '{was}')" : "")}"
                ),
        ];
    }

    /// <summary>Whether a change is heeded while a run goes on: what it is launched with waits for the next.</summary>
    public static bool HoldsAtOnce(string change) =>
        !Launch.Any(part => change.StartsWith(part, StringComparison.Ordinal));

    private static readonly string[] Launch = ["program.", "identity.", "resources.", "begin.needs", "begin.proof"];

    private static Dictionary<string, string> Flat(Node node)
    {
        var flat = new Dictionary<string, string>(StringComparer.Ordinal);
        Walk(node, "");
        return flat;

        void Walk(Node at, string path)
        {
            switch (at)
            {
                case MapNode map:
                    foreach (var (key, value) in map.Entries)
                        Walk(value, path.Length == 0 ? key : $"{path}.{key}");
                    break;
                case ListNode list:
                    for (var i = 0; i < list.Items.Count; i++)
                        Walk(list.Items[i], $"{path}[{i}]");
                    break;
                case ScalarNode scalar:
                    flat[path] = scalar.Text;
                    break;
            }
        }
    }
}
