namespace CalmSentry.Core.Definitions;

/// <summary>One value that differs between two definitions.</summary>
/// <param name="Key">Its dotted key: <c>begin.needs[0].tcp</c>.</param>
/// <param name="Was">Its text before; null: it was not set.</param>
/// <param name="Is">Its text now; null: it is no longer set.</param>
public sealed record DefinitionChange(string Key, string? Was, string? Is)
{
    /// <summary>Whether it takes effect while a run goes on: what a program is launched with waits for the next.</summary>
    public bool HoldsAtOnce => DefinitionKeys.Find(Key) is not { AtLaunch: true };

    public override string ToString() =>
        (Is is null ? $"{Key} is no longer set" : $"{Key} is now '{Is}'") + (Was is null ? "" : $" (was '{Was}')");
}

/// <summary>What differs between two definitions, value by value, in the words of a definition file.</summary>
public static class DefinitionChanges
{
    /// <summary>As it is told and kept: values that look like secrets are masked.</summary>
    public static IReadOnlyList<DefinitionChange> Between(Definition before, Definition after) =>
        [
            .. Between(DefinitionWriter.Write(before), DefinitionWriter.Write(after))
                .Select(change =>
                    change with
                    {
                        Was = change.Was is { } was ? SecretLooks.Masked(change.Key, was, before.Program) : null,
                        Is = change.Is is { } now ? SecretLooks.Masked(change.Key, now, after.Program) : null,
                    }
                ),
        ];

    public static IReadOnlyList<DefinitionChange> Between(MapNode before, MapNode after)
    {
        var (old, now) = (Flat(before), Flat(after));
        return
        [
            .. old
                .Keys.Union(now.Keys)
                .Order(StringComparer.Ordinal)
                .Where(key => old.GetValueOrDefault(key) != now.GetValueOrDefault(key))
                .Select(key => new DefinitionChange(key, old.GetValueOrDefault(key), now.GetValueOrDefault(key))),
        ];
    }

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
