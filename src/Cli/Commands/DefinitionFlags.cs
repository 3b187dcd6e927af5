using System.CommandLine;
using System.Text.Json.Nodes;
using CalmSentry.Cli.Wire;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// The keys of a definition as flags, the same for every command that takes one, and the definition they make together.
/// </summary>
internal sealed class DefinitionFlags
{
    private readonly IReadOnlyList<Flag> flags;

    public DefinitionFlags(IReadOnlyList<Key> keys) =>
        flags = [
            .. DefinitionKeys
                .Flat(keys)
                .Where(one => one.Key.Flag is not null)
                .Select(one => new Flag(one.Path, one.Key)),
        ];

    private sealed record Flag(string Path, Key Key)
    {
        public Option Option { get; } =
            Key.Repeats
                ? Described(new Option<string[]>($"--{Key.Flag}"), Key)
                : Described(new Option<string?>($"--{Key.Flag}"), Key);

        public string[] Words(ParseResult parsed) =>
            Key.Type == KeyType.Switch && parsed.GetResult(Option) is { Implicit: false, Tokens.Count: 0 } ? ["true"]
            : Option is Option<string[]> many ? parsed.GetValue(many) ?? []
            : parsed.GetValue((Option<string?>)Option) is { } one ? [one]
            : [];

        private static Option Described(Option option, Key key)
        {
            var form = key is { Kinds.Count: > 0, WordForm: { } words } ? $" As words: {words}." : "";
            option.Description = key.About + form + (key.Default is { } left ? $" (default: {left})" : "");
            option.HelpName = key.Choices is { } choices ? string.Join('|', choices) : key.WordForm ?? Placeholder(key);
            // Given alone, it is switched on.
            if (key.Type == KeyType.Switch)
                option.Arity = ArgumentArity.ZeroOrOne;
            if (key.Choices is { } all)
                option.CompletionSources.Add([.. all]);
            return option;
        }
    }

    private static string Placeholder(Key key) =>
        key switch
        {
            { Resolve: Resolve.Path } => "PATH",
            { Resolve: Resolve.Program } => "PROGRAM",
            { Type: KeyType.Switch, Pattern: null } => "true (if left out), or false",
            { Type: KeyType.Switch } => "true (if left out), false, or as below",
            { Example: [>= '0' and <= '9', ..] example } => example.Replace(" ", "", StringComparison.Ordinal),
            { Kinds.Count: > 0 } => key.Name.ToUpperInvariant(),
            _ => "TEXT",
        };

    public IEnumerable<Option> All => flags.Select(flag => flag.Option);

    /// <summary>A flag by the name it had in earlier versions, or null.</summary>
    public static string? NowCalled(string token) =>
        DefinitionKeys
            .Flat(DefinitionKeys.All)
            .Where(one => one.Key is { Was: { } was, Flag: not null } && token == $"--{Old(was, one.Key)}")
            .Select(one => $"--{one.Key.Flag}")
            .FirstOrDefault();

    /// <summary>Codes of findings to be overruled, as a call takes them.</summary>
    public string Accepted(ParseResult parsed) =>
        string.Join(',', flags.First(flag => flag.Path == "accept").Words(parsed));

    public bool AnyGiven(ParseResult parsed) => flags.Any(flag => Given(flag, parsed));

    /// <summary>What was given, as a definition; what was not keeps its default, or what it is laid over.</summary>
    /// <param name="program">What stood behind <c>--</c>; null leaves the program out.</param>
    public JsonObject Definition(ParseResult parsed, string? name, string[]? program)
    {
        var definition = new JsonObject();
        if (name is not null)
            definition["name"] = name;
        if (program is { Length: > 0 })
            Put(definition, "program.path", Find(program[0]));
        if (program is { Length: > 1 })
            Put(definition, "program.arguments", Texts(Arguments(program)));
        foreach (var flag in flags.Where(flag => Given(flag, parsed)))
            Put(definition, flag.Path, Read(flag.Key, flag.Words(parsed)));
        return definition;
    }

    /// <summary>One item of a list as a word says it.</summary>
    /// <exception cref="Failure">The word has another form.</exception>
    public static JsonNode Item(string path, string word) =>
        Read(DefinitionKeys.Find(path)!, [word]).AsArray()[0]!.DeepClone();

    public static JsonArray Texts(IEnumerable<string> texts) => new([.. texts.Select(text => (JsonNode)text)]);

    /// <summary>A script behind its interpreter is meant from where the caller is, as the program itself.</summary>
    private static string[] Arguments(string[] program)
    {
        var arguments = program[1..];
        if (
            ScriptKind.OfInterpreter(program[0])?.ScriptAmong(arguments) is >= 0 and var at
            && File.Exists(arguments[at])
        )
            arguments[at] = Path.GetFullPath(arguments[at]);
        return arguments;
    }

    /// <summary>
    /// The program as the caller's shell would find it: by path from here, else by PATH. What lies in root's own home no other account
    /// gets to: one of the same name elsewhere goes first, and that is said.
    /// </summary>
    public static string Find(string program)
    {
        var home = Environment.IsPrivilegedProcess ? Environment.GetEnvironmentVariable("HOME") : null;
        string? inHome = null;
        if (program.Contains('/', StringComparison.Ordinal))
            return Path.GetFullPath(program);
        foreach (
            var place in (Environment.GetEnvironmentVariable("PATH") ?? "").Split(
                ':',
                StringSplitOptions.RemoveEmptyEntries
            )
        )
        {
            var candidate = Path.Combine(Path.GetFullPath(place), program);
            if (!File.Exists(candidate))
                continue;
            if (home is { Length: > 1 } && candidate.StartsWith($"{home}/", StringComparison.Ordinal))
            {
                inHome ??= candidate;
                continue;
            }

            if (inHome is not null)
                Console.Error.WriteLine(
                    $"{program}: {candidate} is taken. {inHome}, which your PATH has first, lies in your home, to which no other account gets."
                );
            return candidate;
        }

        if (inHome is not null)
            return inHome;

        if (program.Contains('\\', StringComparison.Ordinal))
            throw new Failure(
                Exit.NotTrue,
                $"'{program}' is a path of Windows.",
                "Name the program's file on this machine, such as /srv/board/board.",
                FindingCode.ProgramMissing
            );
        throw new Failure(
            Exit.NotTrue,
            $"There is no program '{program}' in any folder of your PATH.",
            $"Give its path; if it is in this folder, write ./{program}.",
            FindingCode.ProgramMissing
        );
    }

    private static bool Given(Flag flag, ParseResult parsed) => parsed.GetResult(flag.Option) is { Implicit: false };

    private static string Old(string was, Key key) =>
        key.Flag!.EndsWith("-command", StringComparison.Ordinal) ? $"{was}-command" : was;

    private static JsonNode Read(Key key, string[] words)
    {
        if (key is { Type: KeyType.Switch, Pattern: null } && !(words is ["true" or "false"]))
            throw new Failure(
                Exit.Usage,
                $"--{key.Flag} needs true, false or nothing behind it; it took '{words[^1]}' for its value.",
                $"Write --{key.Flag} true."
            );
        try
        {
            return Json(Resolved(key, key.FromWords(words)));
        }
        catch (WordException wrong)
        {
            throw new Failure(Exit.Usage, $"--{key.Flag}: {wrong.Message}.");
        }
    }

    /// <summary>Programs and paths as they are meant from where the caller is.</summary>
    private static Node Resolved(Key key, Node node) =>
        (key, node) switch
        {
            ({ Type: KeyType.Command }, ListNode { Items: { Count: > 0 } words }) => new ListNode([
                new ScalarNode(Find(((ScalarNode)words[0]).Text)),
                .. words.Skip(1),
            ]),
            ({ Resolve: Resolve.Program }, ScalarNode scalar) => new ScalarNode(Find(scalar.Text)),
            ({ Resolve: Resolve.Path }, ScalarNode scalar) => new ScalarNode(Path.GetFullPath(scalar.Text)),
            ({ Inner.Count: > 0 }, ListNode list) => new ListNode([.. list.Items.Select(item => Resolved(key, item))]),
            ({ Inner.Count: > 0 }, MapNode map) => new MapNode([
                .. map.Entries.Select(entry =>
                    KeyValuePair.Create(
                        entry.Key,
                        Resolved(key.Inner.First(inner => inner.Name == entry.Key), entry.Value)
                    )
                ),
            ]),
            _ => node,
        };

    private static JsonNode Json(Node node) =>
        node switch
        {
            MapNode map => new JsonObject(
                map.Entries.Select(entry => KeyValuePair.Create(entry.Key, (JsonNode?)Json(entry.Value)))
            ),
            ListNode list => new JsonArray([.. list.Items.Select(Json)]),
            _ => ((ScalarNode)node).Text,
        };

    private static void Put(JsonObject definition, string path, JsonNode value)
    {
        if (path.Split('.', 2) is [var part, var rest])
        {
            if (definition[part] is not JsonObject inner)
                definition[part] = inner = [];
            Put(inner, rest, value);
            return;
        }

        definition[path] = value;
    }
}
