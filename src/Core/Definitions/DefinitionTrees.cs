namespace CalmSentry.Core.Definitions;

/// <summary>Definitions as trees: laid over each other, and cut down to what was given.</summary>
public static class DefinitionTrees
{
    /// <summary>
    /// The keys of <paramref name="over"/> replace those under them, map by map; a key without a value takes one away.
    /// A proof of another kind replaces the whole proof.
    /// </summary>
    public static MapNode Overlay(MapNode under, MapNode over) => Overlay(under, over, "");

    /// <summary>Of keys that are to be taken away, those that no definition has, and the name, which each must have.</summary>
    public static IReadOnlyList<DefinitionError> NotTaken(MapNode over)
    {
        var errors = new List<DefinitionError>();
        Look(over, DefinitionKeys.All, "");
        return errors;

        void Look(MapNode map, IReadOnlyList<Key> keys, string path)
        {
            foreach (var (name, value) in map.Entries)
            {
                var key = keys.FirstOrDefault(key => key.Name == name);
                var names = keys.Select(known => known.Name).ToList();
                if (value is NullNode && key is null)
                    errors.Add(
                        new(
                            path + name,
                            "not a key of this place",
                            string.Join(", ", names),
                            value.Place,
                            Spelling.Nearest(name, names)
                        )
                    );
                else if (value is NullNode && path.Length == 0 && name == "name")
                    errors.Add(new(name, "taken away", "another name, which 'calm rename' gives", value.Place));
                else if (value is MapNode inner && key is { Type: KeyType.Map })
                    Look(inner, key.Inner, $"{path}{name}.");
            }
        }
    }

    private static MapNode Overlay(MapNode under, MapNode over, string path)
    {
        if (
            DefinitionKeys.Find(path) is { Kinds: { Count: > 0 } kinds }
            && over.Entries.Any(entry => kinds.Contains(entry.Key))
        )
            return over;
        var entries = under.Entries.ToList();
        foreach (var (key, value) in over.Entries)
        {
            var at = entries.FindIndex(entry => entry.Key == key);
            if (value is NullNode)
            {
                if (at >= 0)
                    entries.RemoveAt(at);
                continue;
            }

            var merged = value is MapNode above
                ? Overlay(
                    at >= 0 && entries[at].Value is MapNode below ? below : new MapNode([]),
                    above,
                    path.Length == 0 ? key : $"{path}.{key}"
                )
                : value;
            if (at >= 0)
                entries[at] = KeyValuePair.Create(key, merged);
            else
                entries.Add(KeyValuePair.Create(key, merged));
        }

        return new MapNode(entries, over.Place);
    }

    /// <summary>A definition in which whatever named a service as a need names it anew.</summary>
    public static MapNode NeedRenamed(MapNode given, string was, string now) =>
        With(
            given,
            "begin",
            begin =>
                With(
                    (MapNode)begin,
                    "needs",
                    needs => new ListNode([
                        .. ((ListNode)needs).Items.Select(need =>
                            With(
                                (MapNode)need,
                                "service",
                                name => name is ScalarNode scalar && scalar.Text == was ? new ScalarNode(now) : name
                            )
                        ),
                    ])
                )
        );

    private static MapNode With(MapNode map, string key, Func<Node, Node> change) =>
        new(
            [
                .. map.Entries.Select(entry =>
                    entry.Key == key && entry.Value is not NullNode
                        ? KeyValuePair.Create(key, change(entry.Value))
                        : entry
                ),
            ],
            map.Place
        );

    /// <summary>A written definition without what is only a default.</summary>
    public static MapNode Trimmed(MapNode whole, Definition definition) => Trim(whole, "", definition)!;

    private static MapNode? Trim(MapNode map, string path, Definition definition)
    {
        var kept = new List<KeyValuePair<string, Node>>();
        foreach (var (key, value) in map.Entries)
        {
            var at = path.Length == 0 ? key : $"{path}.{key}";
            if (value is MapNode inner && DefinitionKeys.Find(at) is { Type: KeyType.Map })
            {
                if (Trim(inner, at, definition) is { } some)
                    kept.Add(new(key, some));
            }
            else if (definition.Given.Contains(at) || at is "name" or "format" or "program.path" or "identity.account")
            {
                kept.Add(new(key, value));
            }
        }

        return kept.Count == 0 && path.Length > 0 ? null : new MapNode(kept);
    }
}
