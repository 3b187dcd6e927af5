using System.Collections.Immutable;
using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>
/// Takes the keys of one map, one by one; what is left over at <see cref="Done"/> is unknown. Errors gather in one
/// list.
/// </summary>
public sealed class MapReader(
    MapNode map,
    string path,
    List<DefinitionError> errors,
    ImmutableHashSet<string>.Builder given
)
{
    private readonly List<string> known = [];

    public string? Text(string key, string allowed, Func<string, bool>? isAllowed = null)
    {
        switch (Take(key))
        {
            case null:
                return null;
            case ScalarNode scalar when !scalar.Text.Contains('\0') && (isAllowed is null || isAllowed(scalar.Text)):
                return scalar.Text;
            case var other:
                return Wrong<string>(key, other, allowed);
        }
    }

    public string? Required(string key, string allowed, Func<string, bool>? isAllowed = null)
    {
        if (Has(key))
            return Text(key, allowed, isAllowed);
        known.Add(key);
        errors.Add(new(Path(key), "missing", allowed, map.Place));
        return null;
    }

    public T Choice<T>(string key, T otherwise, params (string Word, T Value)[] words)
        where T : struct
    {
        var node = Take(key);
        if (node is null)
            return otherwise;
        foreach (var (word, value) in words)
            if (node is ScalarNode scalar && scalar.Text == word)
                return value;
        Wrong<string>(key, node, string.Join(" | ", words.Select(word => word.Word)));
        return otherwise;
    }

    public TimeSpan Time(string key, TimeSpan otherwise)
    {
        var node = Take(key);
        if (node is null)
            return otherwise;
        if (node is ScalarNode scalar && Duration.TryRead(scalar.Text, out var length))
            return length;
        Wrong<string>(key, node, Duration.Allowed);
        return otherwise;
    }

    public double Number(string key, double otherwise, double least, double most, bool whole = false)
    {
        var node = Take(key);
        if (node is null)
            return otherwise;
        if (
            node is ScalarNode scalar
            && double.TryParse(
                scalar.Text,
                NumberStyles.AllowDecimalPoint,
                CultureInfo.InvariantCulture,
                out var number
            )
            && number >= least
            && number <= most
            && (!whole || number == Math.Floor(number))
        )
            return number;
        Wrong<string>(
            key,
            node,
            string.Create(CultureInfo.InvariantCulture, $"a {(whole ? "whole " : "")}number from {least} to {most}")
        );
        return otherwise;
    }

    /// <summary>A value read by <paramref name="read"/>, which gives null for what is not allowed.</summary>
    public T? Value<T>(string key, string allowed, Func<string, T?> read)
        where T : struct
    {
        var node = Take(key);
        if (node is null)
            return null;
        if (node is ScalarNode scalar && read(scalar.Text) is { } value)
            return value;
        Wrong<string>(key, node, allowed);
        return null;
    }

    public MapReader? Map(string key)
    {
        var node = Take(key);
        if (node is null)
            return null;
        return node is MapNode inner
            ? new MapReader(inner, Path(key), errors, given)
            : Wrong<MapReader>(key, node, "keys with values");
    }

    public IReadOnlyList<(Node Node, string Path)>? Items(string key)
    {
        var node = Take(key);
        if (node is null)
            return null;
        return node is ListNode list
            ? [.. list.Items.Select((item, i) => (item, $"{Path(key)}[{i}]"))]
            : Wrong<IReadOnlyList<(Node, string)>>(key, node, "a list");
    }

    public ImmutableArray<string> Texts(
        string key,
        string allowed = "text without NUL",
        Func<string, bool>? isAllowed = null
    )
    {
        var texts = ImmutableArray.CreateBuilder<string>();
        foreach (var (item, at) in Items(key) ?? [])
        {
            if (
                item is ScalarNode scalar
                && !scalar.Text.Contains('\0')
                && (isAllowed is null || isAllowed(scalar.Text))
            )
                texts.Add(scalar.Text);
            else
                errors.Add(new(at, item.InWords, allowed, item.Place));
        }

        return texts.ToImmutable();
    }

    public ImmutableSortedDictionary<string, string> Pairs(string key, string allowedKey, Func<string, bool> isKey)
    {
        var pairs = ImmutableSortedDictionary.CreateBuilder<string, string>(StringComparer.Ordinal);
        var node = Take(key);
        if (node is not (null or MapNode))
            Wrong<string>(key, node, "names with values");
        foreach (var (name, value) in (node as MapNode)?.Entries ?? [])
        {
            if (!isKey(name))
                errors.Add(new($"{Path(key)}.{name}", "this name", allowedKey, value.Place));
            else if (value is ScalarNode scalar && !scalar.Text.Contains('\0'))
                pairs[name] = scalar.Text;
            else
                errors.Add(new($"{Path(key)}.{name}", value.InWords, "text without NUL", value.Place));
        }

        return pairs.ToImmutable();
    }

    public bool Has(string key) => map.Entries.Any(entry => entry.Key == key);

    public bool Switch(string key) => Choice(key, false, ("true", true), ("false", false));

    /// <summary>A reader of a list's item, which must be a map.</summary>
    public MapReader? Inner(Node item, string at, string allowed)
    {
        if (item is MapNode inner)
            return new MapReader(inner, at, errors, given);
        errors.Add(new(at, item.InWords, allowed, item.Place));
        return null;
    }

    /// <summary>Exactly one of the keys must be there.</summary>
    public void OneOf(string[] keys)
    {
        var there = keys.Where(Has).ToList();
        if (there.Count != 1)
            errors.Add(
                new(
                    path,
                    there.Count == 0 ? "none of its kinds" : $"{string.Join(" and ", there)} together",
                    $"one of {string.Join(", ", keys)}",
                    map.Place
                )
            );
    }

    /// <summary>Reports every key that nobody asked for.</summary>
    public void Done()
    {
        foreach (var (key, value) in map.Entries)
            if (!known.Contains(key))
                errors.Add(
                    new(
                        Path(key),
                        "not a key of this place",
                        string.Join(", ", known),
                        value.Place,
                        Spelling.Nearest(key, known)
                    )
                );
    }

    /// <summary>A value that is well formed but does not go together with another.</summary>
    public void Contradicts(string key, string found, string allowed) =>
        errors.Add(
            new(
                Path(key),
                found,
                allowed,
                map.Entries.FirstOrDefault(entry => entry.Key == key).Value?.Place ?? map.Place
            )
        );

    public string Path(string key) => path.Length == 0 ? key : $"{path}.{key}";

    private Node? Take(string key)
    {
        known.Add(key);
        foreach (var entry in map.Entries)
        {
            if (entry.Key != key)
                continue;
            given.Add(Path(key));
            return entry.Value;
        }

        return null;
    }

    private T? Wrong<T>(string key, Node found, string allowed)
        where T : class
    {
        errors.Add(new(Path(key), found.InWords, allowed, found.Place));
        return null;
    }
}
