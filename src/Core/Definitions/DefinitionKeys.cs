using System.Collections.Immutable;
using CalmSentry.Core.Text;
using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.Definition>;

namespace CalmSentry.Core.Definitions;

/// <summary>Every key of a definition, and the definition they make.</summary>
public static class DefinitionKeys
{
    public const string Format = "calm-sentry/1";

    public static Shape<Definition> Shape { get; } =
        new(
            Value(
                "format",
                Forms.OneOf(Format),
                _ => Format,
                (definition, _) => definition,
                "The form of this file."
            ) with
            {
                Default = Format,
                Flag = null,
            },
            Value(
                "name",
                Forms.ServiceName,
                definition => definition.Name,
                (definition, name) => definition with { Name = name },
                "Short name: lower-case letters, digits and dashes, at most 48. What the service is called in commands "
                    + "and files."
            ) with
            {
                Example = "fare-ledger",
                Flag = null,
            },
            Value(
                "title",
                Forms.Text(
                    "one line of text, at most 120 characters",
                    text => text.Length is > 0 and <= 120 && !text.Contains('\n')
                ),
                definition => definition.Title,
                (definition, title) => definition with { Title = title },
                "One line for people."
            ) with
            {
                Default = "the name",
                Example = "Fare ledger",
            },
            Value(
                "notes",
                Forms.Text("text of at most 4000 characters", text => text.Length <= 4000),
                definition => definition.Notes.Length == 0 ? null : definition.Notes,
                (definition, notes) => definition with { Notes = notes },
                "What it is for and what to know about it."
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "Books every ticket sold at the quay.",
            },
            Texts(
                "labels",
                definition => definition.Labels,
                (definition, labels) => definition with { Labels = [.. labels.Distinct(StringComparer.Ordinal)] },
                "Words that several services may share: calm list, start, stop and others take --label.",
                Forms.Text("labels of lower-case letters, digits and dashes, such as tills", ServiceName.IsValid)
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[tills, east-quay]",
                Flag = "label",
                WordForm = "LABEL",
            },
            Texts(
                "tell",
                definition => definition.Tell,
                (definition, who) => definition with { Tell = [.. who.Distinct(StringComparer.Ordinal)] },
                "Who is told of what needs a person, beside those the settings name: names of recipients, or mail addresses.",
                Forms.Text(
                    "names of recipients in the settings, and mail addresses such as clerk@skerry.example",
                    text => ServiceName.IsValid(text) || MailAddress.IsOne(text)
                )
            ) with
            {
                Default = "those the settings name",
                IsNothingLeftOut = true,
                Example = "[quay-office, clerk@skerry.example]",
                Flag = "tell",
                WordForm = "WHO",
            },
            Map(
                "program",
                ProgramKeys.Shape,
                definition => definition.Program,
                (definition, program) => definition with { Program = program },
                "The program and how it is run."
            ) with
            {
                Default = null,
                AtLaunch = true,
            },
            Map(
                "identity",
                IdentityKeys.Shape,
                definition => definition.Identity,
                (definition, identity) => definition with { Identity = identity },
                "The account and rights the program runs with."
            ) with
            {
                AtLaunch = true,
            },
            Map(
                "resources",
                ResourcesKeys.Shape,
                definition => definition.Resources,
                (definition, resources) => definition with { Resources = resources },
                "What it may use of the machine, enforced by the kernel."
            ) with
            {
                Default = "no limits",
                AtLaunch = true,
            },
            Map(
                "output",
                OutputKeys.Shape,
                definition => definition.Output,
                (definition, output) => definition with { Output = output },
                "How what it prints is kept. Changes hold at once."
            ),
            Map(
                "files",
                FilesKeys.Shape,
                definition => definition.Files,
                (definition, files) => definition with { Files = files },
                "The program's files, as 'calm swap' exchanges them for new ones."
            ),
            Map(
                "begin",
                BeginKeys.Shape,
                definition => definition.Begin,
                (definition, begin) => definition with { Begin = begin },
                "When it starts."
            ),
            Many(
                "watch",
                WatchKeys.Watches,
                definition =>
                    definition.Watch.All(watch => watch.Implied)
                        ? null
                        : [.. definition.Watch.Where(watch => !watch.Implied)],
                (definition, watches) => definition with { Watch = watches },
                $"What is looked at while it runs. Each is one of {string.Join(", ", WatchKeys.Watches.Kinds)}."
            ) with
            {
                Label = "Watched while it runs",
                Default = "paused-for 30 s; with resources.memory also ceiling-within 1 h",
                Example = "[{ http: http://127.0.0.1:7411/health }, { silent-for: 10 min }]",
            },
            Many(
                "rhythm",
                RhythmKeys.Rhythms,
                definition => definition.Rhythm.IsEmpty ? null : definition.Rhythm,
                (definition, rhythms) => definition with { Rhythm = rhythms },
                "When a job is run, a program that stays is restarted, or it is quiet. Each is one of run, restart, quiet."
            ) with
            {
                Label = "Planned moments",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[{ restart: daily at 01:00 }]",
            },
            Map(
                "recover",
                RecoverKeys.Shape,
                definition => definition.Recover,
                (definition, recover) => definition with { Recover = recover },
                "What follows when it ends and nobody asked it to."
            ),
            Many(
                "wind-down",
                WindDownKeys.Steps,
                definition => definition.Program.Kind == ProgramKind.Toggles ? null : definition.WindDown,
                (definition, steps) => definition with { WindDown = WindDownKeys.AtLastAsked(steps) },
                "The steps of a clean stop, in order, each one of signal, send, close, key, http, command; unless the last "
                    + "is the signal TERM or KILL, TERM with 10 s follows it; what is left then is killed. With no step at "
                    + "all it is killed at once."
            ) with
            {
                Label = "Clean stop",
                Default = "TERM, wait 10 s",
                Example = "[{ signal: INT, wait: 5 s }, { signal: TERM, wait: 10 s }]",
            },
            Many(
                "reload",
                WindDownKeys.Steps,
                definition => definition.Reload.IsEmpty ? null : definition.Reload,
                (definition, steps) => definition with { Reload = steps },
                "What 'calm reload' does so that it reads its settings anew, in order, each one of signal, send, http, "
                    + "command. With send, http and command, wait is how long an answer may take."
            ) with
            {
                Label = "Reads its settings anew",
                Default = "nothing is known: calm restart is the way",
                Example = "[{ signal: HUP }]",
            },
            Texts(
                "accept",
                definition => definition.Accept,
                (definition, codes) => definition with { Accept = codes },
                "Codes of blocking findings that are overruled.",
                Forms.Text("codes of findings, such as copy-running", ServiceName.IsValid)
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[copy-running]",
                WordForm = "CODE",
            }
        )
        {
            Check = Check,
        };

    public static IReadOnlyList<Key> All => Shape.Keys;

    /// <summary>Every key that is not in a list, with its dotted path.</summary>
    public static IReadOnlyList<PlacedKey> Flat(IReadOnlyList<Key> keys) => [.. FlatOf(keys, "")];

    /// <summary>A key by its dotted path, as far as there is one: of <c>begin.needs[0].tcp</c> that is <c>begin.needs</c>.</summary>
    public static Key? Find(string path) => Find(path, All);

    public static Key? Find(string path, IReadOnlyList<Key> all)
    {
        Key? found = null;
        var keys = all;
        foreach (var name in path.Split('.'))
        {
            if (keys.FirstOrDefault(key => key.Name == name.Split('[')[0]) is not { } next)
                break;
            (found, keys) = (
                next with
                {
                    AtLaunch = !next.AtOnce && (next.AtLaunch || found is { AtLaunch: true }),
                },
                next.Inner
            );
        }

        return found;
    }

    private static IEnumerable<PlacedKey> FlatOf(IReadOnlyList<Key> keys, string path) =>
        keys.SelectMany(key =>
            key is { Type: KeyType.Map, Flag: null }
                ? FlatOf(key.Inner, $"{path}{key.Name}.")
                : [new(path + key.Name, key)]
        );

    private static void Check(MapReader map, Definition definition)
    {
        var toggles = definition.Program.Kind == ProgramKind.Toggles;
        if (toggles && map.Has("wind-down"))
        {
            map.Contradicts(
                "wind-down",
                "steps for a program that toggles",
                "program.off switches it off; leave wind-down out"
            );
        }

        if (toggles && !definition.Output.Files.IsEmpty)
            map.Contradicts(
                "output",
                "log files of its own, for a program that toggles",
                "leave output.files out: nothing of it runs that could write them"
            );
        if (toggles && definition.Watch.Any(one => one is not (AnswerWatch or FreshFileWatch)))
        {
            map.Contradicts(
                "watch",
                "a watch of processes or output, for a program that toggles",
                "http, tcp, command and file: no process of its own runs between its two commands"
            );
        }

        if (
            definition.Program is { Terminal: false, Window: null }
            && definition.Watch.Any(one => one is QuestionWatch)
        )
            map.Contradicts(
                "watch",
                "asks-for, for a program without a terminal or a display",
                "only for a program that has one: set program.terminal to true or a size such as 120x40, or program.window to 1280x800"
            );
        if (definition.Program.Window is null && definition.Watch.Any(one => one is StillWatch))
            map.Contradicts(
                "watch",
                "still-for, for a program without a display of its own",
                "only for a program that has one: set program.window to a size such as 1280x800"
            );
        RhythmKeys.Check(map, definition);
        RecoverKeys.Check(map, definition);
        if (
            definition.Recover.After == RecoverAfter.Never
            && definition.Watch.Any(one => one.Follows is WatchFollow.Restart or WatchFollow.RestartByForce)
        )
        {
            map.Contradicts(
                "watch",
                "a watch that restarts it, with recover.after: never",
                "follows: note or tell for each watch, or another recover.after"
            );
        }

        foreach (
            var (name, steps) in new[] { ("reload", definition.Reload), ("output.reopen", definition.Output.Reopen) }
        )
        {
            if (steps.FindIndex(step => step is CloseInputStep or KeyStep) is >= 0 and var ends)
                map.Contradicts($"{name}[{ends}]", "a step that ends a program", "signal, send, http or command");
            if (
                toggles
                && steps.FindIndex(step => step is SignalStep or SendStep { To.Kind: SendKind.Input })
                    is >= 0
                        and var live
            )
                map.Contradicts(
                    $"{name}[{live}]",
                    "a step for a live process, for a program that toggles",
                    "send to tcp or unix, http, command"
                );
        }

        if (!definition.Program.Terminal && definition.WindDown.FindIndex(step => step is KeyStep) is >= 0 and var at)
        {
            map.Contradicts(
                $"wind-down[{at}].key",
                "a key at a terminal",
                "only for a program that has one: set program.terminal to true"
            );
        }
    }

    private static int FindIndex(this ImmutableArray<WindDownStep> steps, Predicate<WindDownStep> match) =>
        steps.ToList().FindIndex(match);
}

/// <summary>From a node tree to the one typed model; every error is found in one reading.</summary>
public static class DefinitionReader
{
    /// <returns>The definition, or null with at least one error.</returns>
    public static (Definition? Definition, IReadOnlyList<DefinitionError> Errors) Read(Node node) =>
        Read(node, DefinitionKeys.Shape);

    public static (Definition? Definition, IReadOnlyList<DefinitionError> Errors) Read(
        Node node,
        Shape<Definition> shape
    )
    {
        var errors = new List<DefinitionError>();
        if (node is not MapNode map)
            return (null, [new("definition", node.InWords, "keys with values", node.Place)]);
        var given = ImmutableHashSet.CreateBuilder<string>(StringComparer.Ordinal);
        var read = shape.Read(new MapReader(map, "", errors, given), Definition.Empty);
        if (errors.Count > 0)
            return (null, errors);
        return (
            read with
            {
                Title = read.Title.Length == 0 ? read.Name : read.Title,
                Watch = WatchKeys.WithImplied(read),
                Given = given.ToImmutable(),
            },
            errors
        );
    }
}

/// <summary>From the typed model back to a node tree, complete. Reading it gives the same definition.</summary>
public static class DefinitionWriter
{
    public static MapNode Write(Definition definition) => DefinitionKeys.Shape.Write(definition);

    /// <summary>
    /// A definition as the words of a command that wraps it again, behind the name: each to be quoted by whoever shows
    /// it; null when only a file can say all of it.
    /// </summary>
    public static IReadOnlyList<string>? Words(Definition definition) => Words(definition, DefinitionKeys.Shape);

    public static IReadOnlyList<string>? Words(Definition definition, Shape<Definition> shape)
    {
        var whole = shape.Write(definition);
        var words = new List<string>();
        foreach (var (path, key) in DefinitionKeys.Flat(shape.Keys))
        {
            var given = definition.Given.Any(one =>
                one == path || one.StartsWith($"{path}.", StringComparison.Ordinal)
            );
            if (key.Flag is null || !given || ValueAt(whole, path) is not { } node)
                continue;
            // An empty list where there would be one cannot be said by a flag that is left out.
            if (key.ToWords(node) is not { } values || (values.Count == 0 && !key.IsNothingLeftOut))
                return null;
            foreach (var value in values)
            {
                // What begins like a flag would be taken for one.
                if (value.StartsWith('-'))
                    words.Add($"--{key.Flag}={value}");
                else
                    words.AddRange([$"--{key.Flag}", value]);
            }
        }

        return [.. words, "--", definition.Program.Path, .. definition.Program.Arguments];
    }

    private static Node? ValueAt(MapNode map, string path)
    {
        var (name, rest) = path.Split('.', 2) is [var first, var more] ? (first, more) : (path, null);
        var value = map.Entries.FirstOrDefault(entry => entry.Key == name).Value;
        return rest is null || value is null ? value : ValueAt((MapNode)value, rest);
    }
}
