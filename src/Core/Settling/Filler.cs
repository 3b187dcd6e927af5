using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Settling;

/// <summary>A mistake in one of several files.</summary>
public sealed record FileError(string File, DefinitionError Error)
{
    public override string ToString() => $"{File}: {Error}";
}

/// <summary>A definition as its file says it, and its bases.</summary>
/// <param name="Map">Filled; without what only files have.</param>
/// <param name="Was">The name that the service had before.</param>
/// <param name="Files">All it was made from, its own first.</param>
/// <param name="From">Which file, or whose default, each value came from, by its dotted key.</param>
/// <param name="Under">What its bases come to; null: it has none.</param>
public sealed record Filled(
    MapNode Map,
    MapNode? Under,
    string? Was,
    IReadOnlyList<string> Files,
    IReadOnlyDictionary<string, string> From
)
{
    /// <summary>The file that a key, or one around it, came from.</summary>
    public string FileOf(string key)
    {
        for (var at = key; at.Length > 0; at = at[..Math.Max(0, at.LastIndexOfAny(['.', '[']))])
            if (
                Files.LastOrDefault(file =>
                    From.TryGetValue(at, out var from)
                    && (from == file || from.StartsWith($"{file},", StringComparison.Ordinal))
                ) is
                { } found
            )
                return found;
        return Files[0];
    }
}

/// <summary>
/// Puts definitions together from files: a base (<see cref="BaseFormat"/>) declares blanks and uses them in its texts; whoever is
/// <c>from</c> it fills them, and lays its own keys over it.
/// </summary>
/// <param name="file">A file by its path; null: there is none.</param>
/// <param name="host">What this host fills.</param>
public sealed class Filler(Func<string, MapNode?> file, IReadOnlyDictionary<string, Fill> host)
{
    public const string BaseFormat = "calm-sentry-base/1";

    private const string FromKey = "from",
        FillKey = "fill",
        BlanksKey = "blanks",
        WasKey = "was",
        FormatKey = "format",
        DefaultKey = "default",
        KindKey = "is";

    private const int MostBases = 8;

    /// <summary>Characters that are filled in, in all files together.</summary>
    public const int MostFilled = 16_000_000;

    /// <summary>Mistakes of one file that are told, and those of all that likenesses are looked for.</summary>
    private const int MostMistakes = 20,
        MostNamed = 20;

    private readonly List<FileError> errors = [];
    private readonly List<string> files = [];
    private long filledInAll;
    private int likened;
    private readonly Dictionary<string, string> origins = new(StringComparer.Ordinal);

    /// <summary>Blanks of this host that some base has.</summary>
    public HashSet<string> Used { get; } = new(StringComparer.Ordinal);

    /// <returns>Null with at least one mistake.</returns>
    public (Filled? Filled, IReadOnlyList<FileError> Errors) Fill(string path, MapNode map)
    {
        errors.Clear();
        files.Clear();
        origins.Clear();
        files.Add(path);
        string? was = null;
        if (Of(map, WasKey) is { } before)
        {
            if (before is ScalarNode { Text: var name } && ServiceName.IsValid(name))
                was = name;
            else
                Wrong(path, WasKey, before, $"the name that the service had: {ServiceName.Allowed}");
        }

        var own = Without(map, FromKey, FillKey, WasKey);
        var under = Base(path, map, text => text);
        Note(own, path, "");
        var whole = under is null ? own : DefinitionTrees.Overlay(under, own);
        return errors.Count > 0
            ? (null, [.. errors])
            : (new(whole, under, was, [.. files], new Dictionary<string, string>(origins, StringComparer.Ordinal)), []);
    }

    /// <summary>What a file is from, filled; null: it is from none.</summary>
    /// <param name="filled">Its own texts, filled.</param>
    private MapNode? Base(string path, MapNode map, Func<string, string> filled)
    {
        var fills = new Dictionary<string, Fill>(StringComparer.Ordinal);
        if (Of(map, FillKey) is MapNode given)
            foreach (var (name, value) in given.Entries)
                if (value is ScalarNode { Text: var text })
                    fills[name] = new(filled(text), path, value.Place);
                else
                    Wrong(path, $"{FillKey}.{name}", value, "one value");
        else if (Of(map, FillKey) is { } other and not NullNode)
            Wrong(path, FillKey, other, "names of blanks with their values");
        switch (Of(map, FromKey))
        {
            case null or NullNode:
                if (fills.Count > 0)
                    Wrong(path, FillKey, Of(map, FillKey)!, "'fill' beside 'from', which says whose blanks they are");
                return null;
            case ScalarNode { Text: var named } node:
                var at = Beside(path, named);
                if (at is null || file(at) is not { } found)
                    Wrong(path, FromKey, node, "the path of a base among these files, from this file's folder");
                else if (files.Skip(1).Contains(at) || at == files[0])
                    Wrong(path, FromKey, node, $"a base that is not made from itself: {string.Join(", ", files)}");
                else if (files.Count > MostBases)
                    Wrong(path, FromKey, node, $"at most {MostBases} bases, one from the other");
                else if (Of(found, FormatKey) is not ScalarNode { Text: BaseFormat })
                    Wrong(path, FromKey, node, $"a base: its file says 'format: {BaseFormat}'");
                else
                    return Base(at, found, fills, (path, node.Place));
                return null;
            case { } other:
                Wrong(path, FromKey, other, "the path of a base");
                return null;
        }
    }

    private MapNode Base(string path, MapNode map, Dictionary<string, Fill> fills, (string File, Place? Place) by)
    {
        files.Add(path);
        var blanks = Declared(path, map);
        foreach (var (name, fill) in fills)
            if (!blanks.ContainsKey(name) && errors.Count < MostMistakes)
                errors.Add(
                    new(
                        fill.From,
                        new(
                            $"{FillKey}.{name}",
                            $"no blank of {path}",
                            blanks.Count == 0 ? "it has none" : Named(blanks.Keys),
                            fill.Place,
                            ++likened <= MostMistakes ? Spelling.Nearest(name, blanks.Keys) : null
                        )
                    )
                );
        var values = new Dictionary<string, Fill>(StringComparer.Ordinal);
        foreach (var blank in blanks.Values)
        {
            if (host.ContainsKey(blank.Name))
                Used.Add(blank.Name);
            var value =
                fills.GetValueOrDefault(blank.Name)
                ?? host.GetValueOrDefault(blank.Name)
                ?? (blank.Default is { } otherwise ? new(otherwise, $"{path}, its default", blank.Place) : null);
            if (errors.Count >= MostMistakes)
                continue;
            if (value is null)
                errors.Add(
                    new(
                        by.File,
                        new(
                            $"{FillKey}.{blank.Name}",
                            $"nothing, and {path} leaves it open",
                            blank.NotTaken("\n") ?? "a text",
                            by.Place
                        )
                    )
                );
            else if (blank.NotTaken(value.Text) is { } allowed)
                errors.Add(
                    new(
                        value.From.Split(',')[0],
                        new($"{FillKey}.{blank.Name}", $"'{value.Text}'", allowed, value.Place)
                    )
                );
            values[blank.Name] = value ?? new("", path);
        }

        var under = Base(path, map, text => Text(path, FillKey, new ScalarNode(text), values).Text);
        var own = (MapNode)Put(path, Without(map, FormatKey, FromKey, FillKey, BlanksKey), "", values);
        if (Of(own, "name") is { } name2)
            Wrong(path, "name", name2, "no name: each service that is from it has its own");
        return under is null ? own : DefinitionTrees.Overlay(under, own);
    }

    private Dictionary<string, Blank> Declared(string path, MapNode map)
    {
        var blanks = new Dictionary<string, Blank>(StringComparer.Ordinal);
        if (Of(map, BlanksKey) is not MapNode declared)
        {
            if (Of(map, BlanksKey) is { } other and not NullNode)
                Wrong(path, BlanksKey, other, "names with their kinds: { port: { is: port, default: 7411 } }");
            return blanks;
        }

        foreach (var (name, value) in declared.Entries)
        {
            var at = $"{BlanksKey}.{name}";
            if (!ServiceName.IsValid(name))
                Wrong(path, at, new ScalarNode(name, value.Place), "a name of lower-case letters, digits and dashes");
            if (value is not MapNode said || Of(said, KindKey) is not ScalarNode { Text: var kind })
            {
                Wrong(path, at, value, $"{{ is: KIND }}, of {Blanks.AllKinds}, and its default if it has one");
                continue;
            }

            foreach (var (key, inner) in said.Entries)
                if (key is not (KindKey or DefaultKey))
                    Wrong(path, $"{at}.{key}", inner, $"{KindKey}, {DefaultKey}");
            if (!Blanks.IsKind(kind))
            {
                Wrong(path, $"{at}.{KindKey}", Of(said, KindKey)!, Blanks.AllKinds);
                continue;
            }

            var blank = new Blank(name, kind, (Of(said, DefaultKey) as ScalarNode)?.Text, value.Place);
            if (blank.Default is { } otherwise && blank.NotTaken(otherwise) is { } allowed)
                Wrong(path, $"{at}.{DefaultKey}", Of(said, DefaultKey)!, allowed);
            else
                blanks[name] = blank;
        }

        return blanks;
    }

    /// <summary>A base's texts, filled, and where each came from.</summary>
    private Node Put(string path, Node node, string at, Dictionary<string, Fill> values)
    {
        switch (node)
        {
            case MapNode map:
                return new MapNode(
                    [
                        .. map.Entries.Select(entry =>
                            KeyValuePair.Create(
                                entry.Key,
                                Put(path, entry.Value, at.Length == 0 ? entry.Key : $"{at}.{entry.Key}", values)
                            )
                        ),
                    ],
                    map.Place
                );
            case ListNode list:
                return new ListNode(
                    [.. list.Items.Select((item, i) => Put(path, item, $"{at}[{i}]", values))],
                    list.Place
                );
            case ScalarNode scalar:
                var (text, from) = Text(path, at, scalar, values);
                origins[at] = path + string.Concat(from.Select(one => $", {one}"));
                return scalar with { Text = text };
            default:
                return node;
        }
    }

    private (string Text, IReadOnlyList<string> From) Text(
        string path,
        string at,
        ScalarNode scalar,
        Dictionary<string, Fill> values
    )
    {
        var from = new List<string>();
        var text = Blanks.Filled(
            scalar.Text,
            name =>
            {
                if (!values.TryGetValue(name, out var value))
                    return null;
                from.Add($"{name} from {value.From}");
                return value.Text;
            },
            (found, allowed) =>
                Wrong(
                    path,
                    at,
                    $"'{Headed(found)}'",
                    allowed + (values.Count > 0 ? $"; blanks: {Named(values.Keys)}" : ""),
                    scalar.Place
                )
        );
        if (from.Count == 0 || (filledInAll += text.Length) <= MostFilled)
            return (text, from.Count > MostNamed ? from[..MostNamed] : from);
        Wrong(
            path,
            at,
            $"more than {MostFilled} characters filled in, in all files together",
            $"texts of at most {MostFilled} characters in all once blanks are filled",
            scalar.Place
        );
        return ("", []);
    }

    private static string Named(IReadOnlyCollection<string> blanks) =>
        string.Join(", ", blanks.Take(MostNamed))
        + (blanks.Count > MostNamed ? $" and {blanks.Count - MostNamed} more" : "");

    private static string Headed(string text) => text.Length > 100 ? text[..100] + "…" : text;

    /// <summary>Values of a file that are as they stand there.</summary>
    private void Note(Node node, string path, string at)
    {
        switch (node)
        {
            case MapNode map:
                foreach (var (key, value) in map.Entries)
                    Note(value, path, at.Length == 0 ? key : $"{at}.{key}");
                break;
            case ListNode list:
                foreach (
                    var key in origins.Keys.Where(key => key.StartsWith($"{at}[", StringComparison.Ordinal)).ToList()
                )
                    origins.Remove(key);
                for (var i = 0; i < list.Items.Count; i++)
                    Note(list.Items[i], path, $"{at}[{i}]");
                break;
            default:
                origins[at] = path;
                break;
        }
    }

    private void Wrong(string path, string key, Node found, string allowed) =>
        Wrong(path, key, found.InWords, allowed, found.Place);

    private void Wrong(string path, string key, string found, string allowed, Place? place)
    {
        if (errors.Count < MostMistakes)
            errors.Add(new(path, new(key, found, allowed, place)));
    }

    private static Node? Of(MapNode map, string key) => map.Entries.FirstOrDefault(entry => entry.Key == key).Value;

    private static MapNode Without(MapNode map, params string[] keys) =>
        new([.. map.Entries.Where(entry => !keys.Contains(entry.Key))], map.Place);

    /// <summary>A path from the folder of a file; null: it leaves the directory.</summary>
    public static string? Beside(string path, string named)
    {
        if (named.StartsWith('/') || named.Length == 0)
            return null;
        var parts = path.Split('/')[..^1].ToList();
        foreach (var part in named.Split('/'))
            if (part == "..")
            {
                if (parts.Count == 0)
                    return null;
                parts.RemoveAt(parts.Count - 1);
            }
            else if (part.Length > 0 && part != ".")
                parts.Add(part);
        return string.Join('/', parts);
    }
}
