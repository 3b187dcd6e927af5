using System.Collections.Immutable;
using System.Text.RegularExpressions;

namespace CalmSentry.Core.Definitions;

/// <summary>A key that says which kind a map is of.</summary>
internal sealed record Kind<T>(string Name, string About) : Key(Name, About)
{
    /// <summary>Null: its value is wrong, which is among the errors then.</summary>
    public required Func<MapReader, T?> Take { get; init; }

    /// <summary>Its value, or null when the other is of another kind.</summary>
    public required Func<T, Node?> Give { get; init; }

    /// <summary>The value it has as a word without one: <c>network</c> is <c>network:up</c>.</summary>
    public string? Bare { get; init; }

    /// <summary>Its value as a word has line ends and tabs as <c>\\n</c> and <c>\\t</c>.</summary>
    public bool IsEscaped { get; init; }

    /// <summary>Its value is free text, which may look like anything.</summary>
    public bool IsText { get; init; }

    /// <summary>What a word says of its value, for people: <c>HOST:PORT</c>.</summary>
    public string? Of { get; init; }
}

/// <summary>A key that says more about a map of some kinds.</summary>
internal sealed record Attribute<T>(string Name, string About) : Key(Name, About)
{
    public required Func<MapReader, T, T> Set { get; init; }

    public required Func<T, Node?> Give { get; init; }

    /// <summary>Its kinds must have it.</summary>
    public bool Needed { get; init; }

    /// <summary>It is free text, which may hold commas.</summary>
    public bool IsText { get; init; }

    /// <summary>In a word it has line ends and tabs as <c>\\n</c> and <c>\\t</c>.</summary>
    public bool IsEscaped { get; init; }

    public bool GoesWith(string kind) => Only.Count == 0 || Only.Contains(kind);
}

internal static partial class UnionWords
{
    /// <summary>A name and a value behind the last comma.</summary>
    [GeneratedRegex(",(?<name>[a-z][a-z-]{0,30})=[^,/?]*$", RegexOptions.ExplicitCapture)]
    public static partial Regex LastOption();
}

/// <summary>
/// A map that is of exactly one of several kinds, with attributes; also written as one word of a command line: a kind, a
/// colon and its value, then attributes behind commas: <c>tcp:127.0.0.1:5432,within=2 min</c>.
/// </summary>
public sealed class Union<T>
    where T : class
{
    private readonly ImmutableArray<Kind<T>> kinds;
    private readonly ImmutableArray<Attribute<T>> attributes;
    private readonly Lazy<Regex> word;

    internal Union(string example, ImmutableArray<Kind<T>> kinds, ImmutableArray<Attribute<T>> attributes)
    {
        (Example, this.kinds, this.attributes) = (example, kinds, attributes);
        Keys =
        [
            .. kinds,
            .. attributes
                .GroupBy(attribute => attribute.Name)
                .Select(named => named.First() with { Only = [.. named.SelectMany(attribute => attribute.Only)] }),
        ];
        word = new(WordExpression);
    }

    /// <summary>An item as a file has it, for errors.</summary>
    public string Example { get; }

    public IReadOnlyList<Key> Keys { get; }

    public IReadOnlyList<string> Kinds => [.. kinds.Select(kind => kind.Name)];

    /// <summary>A shorter word for the most usual kind, and back.</summary>
    internal Func<T, string?> ToShort { get; init; } = _ => null;

    internal Func<string, MapNode?> FromShort { get; init; } = _ => null;

    /// <summary>What words there are, for people.</summary>
    public string WordForm =>
        string.Join(", ", kinds.Select(FormOf))
        + (
            attributes.Where(attribute => attribute.Only.Count == 0).Select(FormOf).ToList() is { Count: > 0 } all
                ? $"; each with {string.Join(" ", all)}"
                : ""
        );

    private string FormOf(Kind<T> kind)
    {
        var value = kind.Of ?? Short(kind.Example) ?? kind.Name.ToUpperInvariant();
        var own = string.Concat(
            attributes
                .Where(attribute => attribute.Only.Count > 0 && attribute.GoesWith(kind.Name))
                .Select(attribute => attribute.Needed ? FormOf(attribute) : $"[{FormOf(attribute)}]")
        );
        return kind switch
            {
                { Type: KeyType.Command } => $"'{kind.Name}:PROGRAM ARGUMENT …'",
                { Bare: not null, Of: null } => kind.Name,
                { Bare: not null } => $"{kind.Name}[:{value}]",
                _ => $"{kind.Name}:{value}",
            } + own;
    }

    private static string FormOf(Attribute<T> attribute) =>
        attribute.Type == KeyType.Switch
            ? $",{attribute.Name}"
            : $",{attribute.Name}={(attribute.Choices is { } choices ? string.Join('|', choices) : Short(attribute.Example) ?? "TEXT")}";

    /// <summary>A length or an amount as it is typed without quotes: <c>15min</c>.</summary>
    private static string? Short(string? example) =>
        example is { Length: > 0 } && char.IsAsciiDigit(example[0])
            ? example.Replace(" ", "", StringComparison.Ordinal)
            : example;

    public T? Read(MapReader map)
    {
        T? one = null;
        Kind<T>? of = null;
        foreach (var kind in kinds)
        {
            if (map.Has(kind.Name) && kind.Take(map) is { } taken)
                (one, of) = (taken, kind);
        }

        if (!map.OneOf(Kinds))
            of = null;
        foreach (var named in attributes.GroupBy(attribute => attribute.Name))
        {
            if (of is null || one is null)
                continue;
            var attribute = named.FirstOrDefault(attribute => attribute.GoesWith(of.Name));
            if (!map.Has(named.Key))
            {
                if (attribute is { Needed: true })
                    map.Missing(attribute);
            }
            else if (attribute is null)
            {
                map.Contradicts(
                    named.Key,
                    $"given with {of.Name}",
                    $"only with {string.Join(", ", named.SelectMany(other => other.Only))}"
                );
            }
            else
            {
                one = attribute.Set(map, one);
            }
        }

        map.Done(Keys);
        return of is null ? null : one;
    }

    public MapNode Write(T one)
    {
        var kind = kinds.First(kind => kind.Give(one) is not null);
        return new([
            KeyValuePair.Create(kind.Name, kind.Give(one)!),
            .. attributes
                .Where(attribute => attribute.GoesWith(kind.Name))
                .Select(attribute => (attribute.Name, Value: attribute.Give(one)))
                .Where(entry => entry.Value is not null)
                .Select(entry => KeyValuePair.Create(entry.Name, entry.Value!)),
        ]);
    }

    internal string? ToWord(Node node) =>
        node is MapNode map && Read(MapReader.Of(map)) is { } one ? ToWord(one) : null;

    /// <summary>An item as one word; null: only a file can say it.</summary>
    public string? ToWord(T one)
    {
        var word = ToShort(one) ?? Word(one);
        try
        {
            return word is not null && one.Equals(Read(MapReader.Of((MapNode)FromWord(word)))) ? word : null;
        }
        catch (WordException)
        {
            return null;
        }
    }

    private string? Word(T one)
    {
        var kind = kinds.First(kind => kind.Give(one) is not null);
        var value = kind.Give(one)! switch
        {
            ListNode command
                when !command.Items.Any(item => item is ScalarNode { Text: var text } && text.Any(IsOdd)) =>
                string.Join(' ', command.Items.Select(item => CommandLine.Quoted(((ScalarNode)item).Text))),
            ScalarNode scalar when kind.IsEscaped => Escaped(scalar.Text),
            ScalarNode scalar when !scalar.Text.Any(char.IsControl) => scalar.Text,
            _ => null,
        };
        if (value is null)
            return null;
        // What an attribute would be without a word is not said.
        var plain = Read(MapReader.Of(new([KeyValuePair.Create(kind.Name, kind.Give(one)!), .. Needed(kind, one)])));
        var more = attributes
            .Where(attribute => attribute.GoesWith(kind.Name) && attribute.Give(one) is ScalarNode)
            .Select(attribute => (attribute, ((ScalarNode)attribute.Give(one)!).Text))
            .Where(said =>
                said.attribute.Needed || plain is null || (said.attribute.Give(plain) as ScalarNode)?.Text != said.Text
            )
            .Select(said =>
                said.attribute.Type == KeyType.Switch
                    ? $",{said.attribute.Name}"
                    : $",{said.attribute.Name}={(said.attribute.IsEscaped ? Escaped(said.Text) : said.Text)}"
            );
        return kind.Name + (value == kind.Bare ? "" : $":{value}") + string.Concat(more);

        static bool IsOdd(char c) => c == ',' || char.IsControl(c);
    }

    private IEnumerable<KeyValuePair<string, Node>> Needed(Kind<T> kind, T one) =>
        attributes
            .Where(attribute => attribute.Needed && attribute.GoesWith(kind.Name))
            .Select(attribute => KeyValuePair.Create(attribute.Name, attribute.Give(one)!));

    /// <exception cref="WordException">It has another form.</exception>
    public Node FromWord(string text)
    {
        var parts = word.Value.Match(text);
        if (Hint(text) is { } hint)
            throw new WordException(text, hint);
        if (!parts.Success)
            return FromShort(text) ?? throw new WordException(text, WordForm);
        var kind = kinds.First(kind => kind.Name == parts.Groups["kind"].Value);
        var value = parts.Groups["value"].Value;
        if (kind is { IsText: false, IsEscaped: false } && kind.Type != KeyType.Command)
            NoOther(text, kind, value);
        char? open = null;
        var of = kind switch
        {
            { Type: KeyType.Command } => new ListNode([
                .. CommandLine.Words(value, out open).Select(word => new ScalarNode(word)),
            ]),
            { Bare: { } bare } when value.Length == 0 => new ScalarNode(bare),
            _ => (Node)new ScalarNode(kind.IsEscaped ? Unescaped(value) : value),
        };
        if (open is { } quote)
            throw new WordException(
                text,
                $"a command whose quotes are closed, as a shell takes them: a {quote} is open to the end"
            );
        var options = parts.Groups["option"].Captures.Select(capture => capture.Value.Split('=', 2)).ToList();
        if (options.GroupBy(option => option[0]).FirstOrDefault(same => same.Count() > 1) is { } twice)
            throw new WordException(text, $"{twice.Key} once");
        return new MapNode([
            KeyValuePair.Create(kind.Name, of),
            .. options.Select(option =>
                KeyValuePair.Create(
                    option[0],
                    (Node)
                        new ScalarNode(
                            option.Length < 2 ? "true"
                            : IsEscaped(kind, option[0]) ? Unescaped(option[1])
                            : option[1]
                        )
                )
            ),
        ]);
    }

    private bool IsEscaped(Kind<T> kind, string attribute) =>
        attributes.Any(one => one.Name == attribute && one.IsEscaped && one.GoesWith(kind.Name));

    /// <summary>What looks like an attribute at the end, and is none, was meant as one.</summary>
    private void NoOther(string text, Kind<T> kind, string value)
    {
        if (UnionWords.LastOption().Match(value) is not { Success: true, Groups: var groups })
            return;
        var name = groups["name"].Value;
        var names = attributes
            .Where(attribute => attribute.GoesWith(kind.Name))
            .Select(attribute => attribute.Name)
            .Distinct()
            .ToList();
        throw new WordException(
            text,
            names.Count == 0
                ? $"{kind.Name} without attributes: '{name}' is none"
                : $"behind {kind.Name} as attributes {string.Join(", ", names)}: '{name}' is none"
                    + (Spelling.Nearest(name, names) is { } near ? $" (did you mean {near}?)" : "")
        );
    }

    /// <summary>For a word of earlier days, what its keys are called now.</summary>
    private string? Hint(string text)
    {
        var old = Keys.Where(key =>
                key.Was is { } was
                && (text.Split(':', ',')[0] == was || text.Contains($",{was}=", StringComparison.Ordinal))
            )
            .Select(key => $"{key.Name}, which was called {key.Was} before")
            .ToList();
        return old.Count == 0 ? null : string.Join(", and ", old);
    }

    private Regex WordExpression()
    {
        // What the kind is of may hold commas and colons itself; only what looks like an attribute at the end is one.
        var option = string.Join(
            '|',
            attributes
                .DistinctBy(attribute => attribute.Name)
                .Select(attribute =>
                    attribute switch
                    {
                        { Type: KeyType.Switch } => attribute.Name,
                        { IsText: true } => $"{attribute.Name}=.*?",
                        _ => $"{attribute.Name}=[^,]*",
                    }
                )
        );
        var kind = string.Join('|', kinds.Select(kind => kind.Name));
        return new(
            $"^(?<kind>{kind})(:(?<value>.*?))?(,(?<option>{option}))*$",
            RegexOptions.ExplicitCapture | RegexOptions.Singleline
        );
    }

    private static string? Escaped(string text)
    {
        var escaped = text.Replace("\\", "\\\\", StringComparison.Ordinal)
            .Replace("\n", "\\n", StringComparison.Ordinal)
            .Replace("\r", "\\r", StringComparison.Ordinal)
            .Replace("\t", "\\t", StringComparison.Ordinal);
        return escaped.Any(char.IsControl) ? null : escaped;
    }

    private static string Unescaped(string text) =>
        Regex.Replace(
            text,
            @"\\(.)",
            escape =>
                escape.Groups[1].Value switch
                {
                    "n" => "\n",
                    "r" => "\r",
                    "t" => "\t",
                    var other => other,
                }
        );
}

/// <summary>Makes the keys of a map that is one of several kinds.</summary>
internal static class UnionOf<T>
    where T : class
{
    public static Kind<T> Kind<V>(string name, Form<V> form, Func<V, T> make, Func<T, V?> match, string about)
        where V : struct => Kind(name, form, make, one => match(one) is { } value ? form.Write(value) : null, about, 0);

    public static Kind<T> Kind(
        string name,
        Form<string> form,
        Func<string, T> make,
        Func<T, string?> match,
        string about
    ) => Kind(name, form, make, match, about, 0);

    private static Kind<T> Kind<V>(
        string name,
        Form<V> form,
        Func<V, T> make,
        Func<T, string?> match,
        string about,
        int _
    ) =>
        new(name, about)
        {
            Type = form.Type,
            Pattern = form.Pattern,
            Choices = form.Choices,
            Example = form.Example,
            Resolve = form.Resolve,
            Default = "not this kind",
            Take = map => map.TryValue(name, form, out var value) ? make(value) : null,
            Give = one => match(one) is { } text ? new ScalarNode(text) : null,
        };

    /// <summary>A command, program first.</summary>
    public static Kind<T> Command(
        string name,
        Func<ImmutableArray<string>, T> make,
        Func<T, ImmutableArray<string>?> match,
        string about
    ) =>
        new(name, about)
        {
            Type = KeyType.Command,
            Default = "not this kind",
            Take = map => map.Command(name) is { IsEmpty: false } command ? make(command) : null,
            Give = one =>
                match(one) is { } command ? new ListNode([.. command.Select(word => new ScalarNode(word))]) : null,
        };

    public static Attribute<T> Attribute<V>(string name, Form<V> form, Func<T, V?> get, Func<T, V, T> set, string about)
        where V : struct =>
        Attribute(name, form, one => get(one) is { } value ? form.Write(value) : null, set, about, 0);

    public static Attribute<T> Attribute(
        string name,
        Form<string> form,
        Func<T, string?> get,
        Func<T, string, T> set,
        string about
    ) => Attribute(name, form, get, set, about, 0);

    private static Attribute<T> Attribute<V>(
        string name,
        Form<V> form,
        Func<T, string?> get,
        Func<T, V, T> set,
        string about,
        int _
    ) =>
        new(name, about)
        {
            Type = form.Type,
            Pattern = form.Pattern,
            Choices = form.Choices,
            Example = form.Example,
            Resolve = form.Resolve,
            Set = (map, one) => map.TryValue(name, form, out var value) ? set(one, value) : one,
            Give = one => get(one) is { } text ? new ScalarNode(text) : null,
        };
}
