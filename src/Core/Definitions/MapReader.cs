using System.Collections.Immutable;
using System.Diagnostics.CodeAnalysis;

namespace CalmSentry.Core.Definitions;

/// <summary>Takes the keys of one map, one by one. Errors gather in one list, so that all of them are found in one reading.</summary>
public sealed class MapReader(
    MapNode map,
    string path,
    List<DefinitionError> errors,
    ImmutableHashSet<string>.Builder given
)
{
    /// <summary>A reader whose errors nobody asks for.</summary>
    public static MapReader Of(MapNode map) => new(map, "", [], ImmutableHashSet.CreateBuilder<string>());

    public bool Has(string key) => map.Entries.Any(entry => entry.Key == key);

    public bool IsMap(string key) => map.Entries.Any(entry => entry.Key == key && entry.Value is MapNode);

    /// <summary>False when the key is not there, or its value is none that is allowed: then that is among the errors.</summary>
    public bool TryValue<T>(string key, Form<T> form, [MaybeNullWhen(false)] out T value)
    {
        value = default;
        var node = Take(key);
        if (node is null)
            return false;
        if (node is ScalarNode scalar && !scalar.Text.Contains('\0') && form.Read(scalar.Text, out value))
            return true;
        var typed = (node as ScalarNode)?.Text;
        errors.Add(
            new(
                Path(key),
                node.InWords,
                typed is null ? form.Allowed : form.AllowedFor?.Invoke(typed) ?? form.Allowed,
                node.Place,
                typed is null ? null : form.Nearest(typed)
            )
        );
        return false;
    }

    /// <summary>A value, or a list of such values.</summary>
    public ImmutableArray<T> OneOrMore<T>(string key, Form<T> form)
    {
        if (map.Entries.FirstOrDefault(entry => entry.Key == key).Value is not ListNode)
            return TryValue(key, form, out var one) ? [one] : [];
        var all = ImmutableArray.CreateBuilder<T>();
        foreach (var (item, at) in Items(key))
        {
            if (item is ScalarNode { Text: var text } && !text.Contains('\0') && form.Read(text, out var read))
                all.Add(read);
            else
                WrongItem(
                    at,
                    item,
                    (item as ScalarNode)?.Text is { } typed && form.AllowedFor is { } allowed
                        ? allowed(typed)
                        : form.Allowed
                );
        }

        return all.ToImmutable();
    }

    public MapReader? Map(string key)
    {
        var node = Take(key);
        if (node is MapNode inner)
            return new MapReader(inner, Path(key), errors, given);
        if (node is not null)
            Wrong(key, node, "keys with values");
        return null;
    }

    public ImmutableArray<string> Texts(string key, Form<string> form)
    {
        var texts = ImmutableArray.CreateBuilder<string>();
        foreach (var (item, at) in Items(key))
        {
            if (item is ScalarNode scalar && !scalar.Text.Contains('\0') && form.Read(scalar.Text, out var text))
                texts.Add(text);
            else
                errors.Add(new(at, item.InWords, form.Allowed, item.Place));
        }

        return texts.ToImmutable();
    }

    /// <summary>A list that begins with a program's absolute path; empty when it is none.</summary>
    public ImmutableArray<string> Command(string key)
    {
        var command = Texts(key, Forms.Text("text without NUL"));
        if (!command.IsEmpty && System.IO.Path.IsPathRooted(command[0]))
            return command;
        Contradicts(
            key,
            command.IsEmpty ? "nothing" : $"'{command[0]}'",
            "a list that begins with the absolute path of a program"
        );
        return [];
    }

    public ImmutableArray<T> Each<T>(string key, Union<T> union)
        where T : class
    {
        var all = ImmutableArray.CreateBuilder<T>();
        foreach (var (item, at) in Items(key))
        {
            if (Inner(item, at, $"one such as {union.Example}") is { } inner && union.Read(inner) is { } one)
                all.Add(one);
        }

        return all.ToImmutable();
    }

    public ImmutableSortedDictionary<string, T> Pairs<T>(string key, Form<string> names, Form<T> values)
    {
        var pairs = ImmutableSortedDictionary.CreateBuilder<string, T>(StringComparer.Ordinal);
        var node = Take(key);
        if (node is not (null or MapNode))
            Wrong(key, node, "names with values");
        foreach (var (name, value) in (node as MapNode)?.Entries ?? [])
        {
            if (!names.Read(name, out var known))
                errors.Add(new($"{Path(key)}.{name}", "this name", names.Allowed, value.Place));
            else if (pairs.ContainsKey(known))
                errors.Add(new($"{Path(key)}.{name}", $"{known} once more", "each once", value.Place));
            else if (
                value is ScalarNode scalar
                && !scalar.Text.Contains('\0')
                && values.Read(scalar.Text, out var read)
            )
                pairs[known] = read;
            else
                errors.Add(new($"{Path(key)}.{name}", value.InWords, values.Allowed, value.Place));
        }

        return pairs.ToImmutable();
    }

    public IReadOnlyList<(Node Node, string Path)> Items(string key)
    {
        var node = Take(key);
        if (node is ListNode list)
            return [.. list.Items.Select((item, i) => (item, $"{Path(key)}[{i}]"))];
        if (node is not null)
            Wrong(key, node, "a list");
        return [];
    }

    /// <summary>A reader of a list's item, which must be a map.</summary>
    public MapReader? Inner(Node item, string at, string allowed)
    {
        if (item is MapNode inner)
            return new MapReader(inner, at, errors, given);
        errors.Add(new(at, item.InWords, allowed, item.Place));
        return null;
    }

    /// <summary>Exactly one of the keys must be there.</summary>
    public bool OneOf(IReadOnlyList<string> keys)
    {
        var there = keys.Where(Has).ToList();
        if (there.Count == 1)
            return true;
        errors.Add(
            new(
                path,
                there.Count == 0 ? "none of its kinds" : $"{string.Join(" and ", there)} together",
                $"one of {string.Join(", ", keys)}",
                map.Place
            )
        );
        return false;
    }

    public void Missing(Key key) =>
        errors.Add(
            new(
                Path(key.Name),
                "missing",
                key.Type == KeyType.Map
                    ? $"a map with at least {string.Join(", ", key.Inner.Where(inner => inner.Default is null).Select(inner => inner.Name))}"
                    : key.About,
                map.Place
            )
        );

    /// <summary>More than these are looked for by nobody: what is wrong by the thousand is no definition.</summary>
    private const int MostMistakes = 100;

    /// <summary>Reports every key that is none of these.</summary>
    public void Done(IReadOnlyList<Key> keys)
    {
        foreach (var (key, value) in map.Entries.Where(entry => keys.All(known => known.Name != entry.Key)))
        {
            if (keys.FirstOrDefault(known => known.Was == key) is { } now)
            {
                errors.Add(new(Path(key), "a key of earlier versions", now.Name, value.Place, now.Name));
                continue;
            }

            if (errors.Count >= MostMistakes)
                return;
            var names = keys.Where(known => !known.IsHidden).Select(known => known.Name).ToList();
            errors.Add(
                new(
                    Path(key),
                    "not a key of this place",
                    string.Join(", ", names),
                    value.Place,
                    Spelling.Nearest(key, names)
                )
            );
        }
    }

    /// <summary>A value that is well formed but does not go together with another.</summary>
    /// <param name="key">Also one further in, as <see cref="Node.PlaceOf"/> takes it.</param>
    public void Contradicts(string key, string found, string allowed) =>
        errors.Add(new(Path(key), found, allowed, map.PlaceOf(key)));

    /// <summary>Whether something was wrong with what a key has.</summary>
    public bool IsWrong(string key) =>
        errors.Any(error => error.Key == Path(key) || error.Key.StartsWith(Path(key) + "[", StringComparison.Ordinal));

    /// <summary>A list's item that is neither of what its list takes.</summary>
    public void WrongItem(string at, Node item, string allowed) =>
        errors.Add(new(at, item.InWords, allowed, item.Place));

    public string Path(string key) => path.Length == 0 ? key : $"{path}.{key}";

    private Node? Take(string key)
    {
        foreach (var entry in map.Entries)
        {
            if (entry.Key != key)
                continue;
            given.Add(Path(key));
            return entry.Value;
        }

        return null;
    }

    private void Wrong(string key, Node found, string allowed) =>
        errors.Add(new(Path(key), found.InWords, allowed, found.Place));
}
