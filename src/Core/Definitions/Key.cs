using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>What a key of a definition takes.</summary>
public enum KeyType
{
    Text,
    Choice,
    Number,

    /// <summary>true or false.</summary>
    Switch,
    Texts,

    /// <summary>A command: a list that begins with a program.</summary>
    Command,
    Pairs,
    Map,

    /// <summary>A list of maps.</summary>
    Items,

    /// <summary>A list of names, or of maps where there is more to say.</summary>
    NamesOrItems,
}

/// <summary>
/// One key of a definition: everything there is to know of it. The reader, the writer, the JSON Schema, the reference, the
/// client's flags and completion, the console's form, hints at unknown keys, the list of changes, and what holds at once
/// are all made from this.
/// </summary>
/// <param name="About">What it means, in one or two sentences.</param>
public abstract record Key(string Name, string About)
{
    public KeyType Type { get; init; }

    /// <summary>What holds when it is left out, in words; null: it must be given.</summary>
    public string? Default { get; init; }

    /// <summary>Left out, it is empty: so an empty one can be said by leaving it out.</summary>
    public bool IsNothingLeftOut { get; init; }

    /// <summary>A word or two that stand before it in a form; by default its name.</summary>
    public string Label { get; init; } = char.ToUpperInvariant(Name[0]) + Name[1..].Replace('-', ' ');

    public string? Example { get; init; }

    /// <summary>It is read, and told to nobody: no schema, form or hint has it. For trials of what takes long.</summary>
    public bool IsHidden { get; init; }

    /// <summary>It takes a list of such texts as well.</summary>
    public bool OrList { get; init; }

    /// <summary>Regular expression its text matches (ECMA 262), or null.</summary>
    public string? Pattern { get; init; }

    /// <summary>All texts it takes, or null.</summary>
    public IReadOnlyList<string>? Choices { get; init; }

    /// <summary>The keys of the map it takes, or of each map in its list.</summary>
    public IReadOnlyList<Key> Inner { get; init; } = [];

    /// <summary>Of a map that is of one of several kinds: the keys among <see cref="Inner"/> that say which.</summary>
    public IReadOnlyList<string> Kinds { get; init; } = [];

    /// <summary>Of an attribute: the kinds it goes with; empty: all.</summary>
    public IReadOnlyList<string> Only { get; init; } = [];

    /// <summary>What it was called before: refused with the name it has now.</summary>
    public string? Was { get; init; }

    /// <summary>It takes effect with the next launch; all else holds at once.</summary>
    public bool AtLaunch { get; init; }

    /// <summary>It holds at once, though what it stands in takes effect with the next launch.</summary>
    public bool AtOnce { get; init; }

    /// <summary>Its flag at a command line, without dashes; null: it has none. By default its name.</summary>
    public string? Flag { get; init; } = Name;

    public Resolve Resolve { get; init; }

    /// <summary>What its flag takes, for people; null: its choices, or its example.</summary>
    public string? WordForm { get; init; }

    /// <summary>Its value, or one item of its list, as one word of a command line; null: only a file can say it.</summary>
    public Func<Node, string?> ToWord { get; init; } = node => (node as ScalarNode)?.Text;

    /// <summary>The other way round.</summary>
    /// <exception cref="WordException">The word has another form.</exception>
    public Func<string, Node> FromWord { get; init; } = word => new ScalarNode(word);

    /// <summary>Its flag may be given several times.</summary>
    public bool Repeats =>
        Type is KeyType.Texts or KeyType.Command or KeyType.Pairs or KeyType.Items or KeyType.NamesOrItems;

    /// <summary>Its values as words of a command line, or null when only a file can say them.</summary>
    public IReadOnlyList<string>? ToWords(Node node)
    {
        var words = node switch
        {
            MapNode pairs when Type == KeyType.Pairs => pairs.Entries.Select(pair =>
                $"{pair.Key}={(pair.Value as ScalarNode)?.Text}"
            ),
            ListNode list when Type == KeyType.Command =>
            [
                string.Join(' ', list.Items.Select(item => CommandLine.Quoted(((ScalarNode)item).Text))),
            ],
            ListNode list => list.Items.Select(ToWord),
            _ => [ToWord(node)],
        };
        var all = words.ToList();
        return all.Contains(null) ? null : [.. all.Select(word => word!)];
    }

    /// <summary>What the words of a command line say.</summary>
    /// <exception cref="WordException">A word has another form.</exception>
    public Node FromWords(IReadOnlyList<string> words) =>
        Type switch
        {
            // As with any flag that is given twice, the last says it.
            KeyType.Pairs => new MapNode([.. words.Select(Pair).Reverse().DistinctBy(pair => pair.Key).Reverse()]),
            // As every command it is one text, quoted as for a shell; or each of its words is given by itself.
            KeyType.Command when words.Count == 1 => new ListNode([
                .. CommandLine.Words(words[0]).Select(word => new ScalarNode(word)),
            ]),
            _ when Repeats => new ListNode([.. words.Select(FromWord)]),
            _ => FromWord(words[^1]),
        };

    private KeyValuePair<string, Node> Pair(string word) =>
        word.Split('=', 2) is [{ Length: > 0 } name, var value]
            ? new(name, new ScalarNode(value))
            : throw new WordException(word, WordForm ?? "NAME=VALUE");
}

/// <param name="Path">Its dotted path: <c>program.path</c>.</param>
public sealed record PlacedKey(string Path, Key Key);

/// <summary>A word of a command line that has another form than its key takes.</summary>
public sealed class WordException(string found, string allowed)
    : FormatException($"found '{found}'; allowed: {allowed}");

/// <summary>A key of one part of the model: how its value gets there, and back.</summary>
public sealed record Key<TPart>(string Name, string About) : Key(Name, About)
{
    public required Func<MapReader, TPart, TPart> Read { get; init; }

    /// <summary>Null: there is nothing to write.</summary>
    public required Func<TPart, Node?> Write { get; init; }
}

/// <summary>The keys of a map, and what they make together.</summary>
public sealed record Shape<TPart>(params IReadOnlyList<Key<TPart>> Keys)
{
    /// <summary>Values that are well formed but do not go together.</summary>
    public Action<MapReader, TPart> Check { get; init; } = (_, _) => { };

    public TPart Read(MapReader map, TPart part)
    {
        foreach (var key in Keys)
        {
            if (key.Default is null && !map.Has(key.Name))
                map.Missing(key);
            part = key.Read(map, part);
        }

        Check(map, part);
        map.Done(Keys);
        return part;
    }

    public MapNode Write(TPart part) =>
        new([
            .. Keys.Select(key => (key.Name, Value: key.Write(part)))
                .Where(entry => entry.Value is not null)
                .Select(entry => KeyValuePair.Create(entry.Name, entry.Value!)),
        ]);
}

/// <summary>Makes the keys of a part.</summary>
public static class KeyOf<TPart>
{
    public static Key<TPart> Value<T>(
        string name,
        Form<T> form,
        Func<TPart, T?> get,
        Func<TPart, T, TPart> set,
        string about
    )
        where T : struct => Scalar(name, form, part => get(part) is { } value ? form.Write(value) : null, set, about);

    public static Key<TPart> Value(
        string name,
        Form<string> form,
        Func<TPart, string?> get,
        Func<TPart, string, TPart> set,
        string about
    ) => Scalar(name, form, get, set, about);

    private static Key<TPart> Scalar<T>(
        string name,
        Form<T> form,
        Func<TPart, string?> get,
        Func<TPart, T, TPart> set,
        string about
    ) =>
        new(name, about)
        {
            Type = form.Type,
            Pattern = form.Pattern,
            Choices = form.Choices,
            Example = form.Example,
            Resolve = form.Resolve,
            Read = (map, part) => map.TryValue(name, form, out var value) ? set(part, value) : part,
            Write = part => get(part) is { } text ? new ScalarNode(text) : null,
        };

    /// <param name="always">It is written when it is empty, too.</param>
    public static Key<TPart> Texts(
        string name,
        Func<TPart, ImmutableArray<string>> get,
        Func<TPart, ImmutableArray<string>, TPart> set,
        string about,
        Form<string>? item = null,
        bool always = false
    ) =>
        new(name, about)
        {
            Type = KeyType.Texts,
            Read = (map, part) => set(part, map.Texts(name, item ?? AnyText)),
            Write = part => ListOf(get(part), always),
        };

    /// <summary>A command: the program first.</summary>
    public static Key<TPart> Command(
        string name,
        Func<TPart, ImmutableArray<string>> get,
        Func<TPart, ImmutableArray<string>, TPart> set,
        string about
    ) => Texts(name, get, set, about) with { Type = KeyType.Command };

    public static Key<TPart> Pairs<T>(
        string name,
        Form<string> names,
        Form<T> values,
        Func<TPart, ImmutableSortedDictionary<string, T>> get,
        Func<TPart, ImmutableSortedDictionary<string, T>, TPart> set,
        string about,
        bool always = false
    ) =>
        new(name, about)
        {
            Type = KeyType.Pairs,
            Pattern = names.Pattern,
            Choices = values.Choices,
            Read = (map, part) => set(part, map.Pairs(name, names, values)),
            Write = part =>
                get(part) is { } pairs && (always || !pairs.IsEmpty)
                    ? new MapNode([
                        .. pairs.Select(pair =>
                            KeyValuePair.Create(pair.Key, (Node)new ScalarNode(values.Write(pair.Value)))
                        ),
                    ])
                    : null,
        };

    public static Key<TPart> Map<TInner>(
        string name,
        Shape<TInner> shape,
        Func<TPart, TInner> get,
        Func<TPart, TInner, TPart> set,
        string about
    ) =>
        new(name, about)
        {
            Type = KeyType.Map,
            Inner = shape.Keys,
            Flag = null,
            Default = "see inside",
            Read = (map, part) => map.Map(name) is { } inner ? set(part, shape.Read(inner, get(part))) : part,
            Write = part => shape.Write(get(part)),
        };

    /// <summary>A map that is one of several kinds.</summary>
    public static Key<TPart> One<T>(
        string name,
        Union<T> union,
        Func<TPart, T> get,
        Func<TPart, T, TPart> set,
        string about
    )
        where T : class =>
        new(name, about)
        {
            Type = KeyType.Map,
            Inner = union.Keys,
            Kinds = union.Kinds,
            Read = (map, part) => map.Map(name) is { } inner && union.Read(inner) is { } one ? set(part, one) : part,
            Write = part => union.Write(get(part)),
            ToWord = union.ToWord,
            FromWord = union.FromWord,
            WordForm = union.WordForm,
        };

    /// <summary>A list of maps, each one of several kinds.</summary>
    /// <param name="get">Null: it is not written.</param>
    public static Key<TPart> Many<T>(
        string name,
        Union<T> union,
        Func<TPart, ImmutableArray<T>?> get,
        Func<TPart, ImmutableArray<T>, TPart> set,
        string about
    )
        where T : class =>
        new(name, about)
        {
            Type = KeyType.Items,
            Inner = union.Keys,
            Kinds = union.Kinds,
            Read = (map, part) => map.Has(name) ? set(part, map.Each(name, union)) : part,
            Write = part => get(part) is { } all ? new ListNode([.. all.Select(one => union.Write(one))]) : null,
            ToWord = union.ToWord,
            FromWord = union.FromWord,
            WordForm = union.WordForm,
        };

    private static readonly Form<string> AnyText = Forms.Text("text without NUL");

    private static ListNode? ListOf(ImmutableArray<string> texts, bool always) =>
        always || !texts.IsEmpty ? new([.. texts.Select(text => new ScalarNode(text))]) : null;
}
