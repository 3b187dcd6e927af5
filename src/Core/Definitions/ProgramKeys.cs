using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.ProgramPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>program</c>.</summary>
public static class ProgramKeys
{
    public static Form<ProgramKind> Kind { get; } =
        Forms.Choice(
            ("stays", ProgramKind.Stays),
            ("detaches", ProgramKind.Detaches),
            ("toggles", ProgramKind.Toggles),
            ("periodic", ProgramKind.Periodic)
        );

    internal static readonly Form<string> Variable = Forms.Text(
        "a variable's name: letters, digits and _, not beginning with a digit",
        name =>
            name.Length > 0 && !char.IsAsciiDigit(name[0]) && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '_')
    ) with
    {
        Pattern = "^[A-Za-z_][A-Za-z0-9_]*$",
    };

    private static readonly Form<bool> AsFile = Forms.Choice(("variable", false), ("file", true));

    private static readonly Shape<SecretUse> Secret = new(
        KeyOf<SecretUse>.Value(
            "key",
            Variable,
            use => use.Key,
            (use, key) => use with { Key = key },
            "The secret's name."
        ) with
        {
            Example = "LEDGER_KEY",
        },
        KeyOf<SecretUse>.Value(
            "as",
            AsFile,
            use => use.AsFile,
            (use, asFile) => use with { AsFile = asFile },
            "How it is given."
        ) with
        {
            Default = "variable",
        }
    );

    internal static Shape<ProgramPart> Shape { get; } =
        new(
            Value(
                "kind",
                Kind,
                program => program.Kind,
                (program, kind) => program with { Kind = kind },
                "stays: the process launched is the program. detaches: it puts itself into the background. "
                    + "toggles: one command switches something on, another switches it off. periodic: a job that is run "
                    + "at the moments of its rhythm, and ends by itself."
            ) with
            {
                Default = "stays",
            },
            Value(
                "path",
                Forms.Program,
                program => program.Path,
                (program, path) => program with { Path = path },
                "The program's file, absolute."
            ) with
            {
                Label = "Program",
                Example = "/srv/skerry/ledger/ledger.py",
                Flag = null,
            },
            Value(
                "with",
                Forms.Program,
                program => program.With,
                (program, with) => program with { With = with },
                "The interpreter, absolute, where the file is a script that cannot be executed by itself."
            ) with
            {
                Label = "Interpreter",
                Default =
                    "chosen when it is wrapped: a virtual environment beside the script, the script's first line, or its kind",
                Example = "/usr/bin/python3",
            },
            Texts(
                "arguments",
                program => program.Arguments,
                (program, arguments) => program with { Arguments = arguments },
                "Passed exactly as they are: spaces, quotes, line ends and empty texts too.",
                always: true
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[--book, day.book]",
                Flag = null,
            },
            Value(
                "directory",
                Forms.Path,
                program => program.Directory,
                (program, directory) => program with { Directory = directory },
                "The working directory, absolute."
            ) with
            {
                Default = "the program's own; for the host's own programs the service's state directory",
                Example = "/srv/skerry/ledger",
            },
            Pairs(
                "environment",
                Variable,
                Forms.Text("text without NUL"),
                program => program.Environment,
                (program, environment) => program with { Environment = environment },
                "Variables beside those every service gets: PATH, HOME, USER, LOGNAME, SHELL, LANG, CALM_SERVICE, "
                    + "CALM_STATE, CALM_SAY, CALM_RUN. Nothing else is inherited.",
                always: true
            ) with
            {
                Default = "none",
                IsNothingLeftOut = true,
                Example = "{ TZ: Europe/Oslo }",
                WordForm = "NAME=VALUE",
            },
            new(
                "secrets",
                "Names of secrets it is given, each as the variable of that name, or with { key: NAME, as: file } as a "
                    + "file whose path is in the variable. Their values: calm secret set."
            )
            {
                Type = KeyType.NamesOrItems,
                Inner = Secret.Keys,
                Pattern = Variable.Pattern,
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[LEDGER_KEY, { key: SEAL, as: file }]",
                Flag = "secret",
                WordForm = "NAME or NAME:file",
                Read = (map, program) => program with { Secrets = [.. ReadSecrets(map)] },
                Write = program => new ListNode([.. program.Secrets.Select(WriteSecret)]),
                ToWord = node =>
                    node is ScalarNode scalar
                        ? scalar.Text
                        : $"{Secret.Read(MapReader.Of((MapNode)node), new("", false)).Key}:file",
                FromWord = word =>
                    word.EndsWith(":file", StringComparison.Ordinal)
                        ? Secret.Write(new(word[..^5], AsFile: true))
                        : new ScalarNode(word),
            },
            Value(
                "pid-file",
                Forms.Path,
                program => program.PidFile,
                (program, file) => program with { PidFile = file },
                "With kind: detaches, the file its real process writes its process id into, absolute."
            ) with
            {
                Default = "the process is found among its descendants",
                Example = "/run/relay/relay.pid",
            },
            Command(
                "off",
                program => program.Off,
                (program, off) => program with { Off = off },
                "With kind: toggles, the command that switches it off, program first."
            ) with
            {
                Label = "Command to switch it off",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[/usr/local/sbin/lamps, off]",
                Was = "stop",
                Flag = "off-command",
                WordForm = "the command with its words, quoted as for a shell; or given again for each word",
            },
            Value(
                "terminal",
                Forms.OfTerminal,
                program => program.Terminal ? new AtTerminal(true, program.Screen) : null,
                (program, terminal) => program with { Terminal = terminal.Has, Screen = terminal.Screen },
                "It runs at a terminal of its own, as in a window: its wind-down can press a key there, and many "
                    + "programs print line by line. With a size it is one for people: calm terminal joins it while it runs."
            ) with
            {
                Label = "Runs at a terminal of its own",
                Default = "false: with pipes",
            },
            Value(
                "input",
                Forms.Choice(("none", false), ("kept", true)),
                program => program.KeepsInput ? true : null,
                (program, kept) => program with { KeepsInput = kept },
                "kept: its standard input stays open, and takes what 'calm terminal NAME --send' gives it."
            ) with
            {
                Label = "Its input",
                Default = "none, unless a step sends to it or closes it",
            },
            Value(
                "window",
                WindowSize.Form,
                program => program.Window,
                (program, size) => program with { Window = size },
                "It shows its windows on a display of its own, of this size: calm window saves what is there."
            ) with
            {
                Label = "Display of its own",
                Default = "none",
                IsNothingLeftOut = true,
                WordForm = "WIDTHxHEIGHT",
            },
            Value(
                "window-manager",
                Forms.Program,
                program => program.WindowManager,
                (program, manager) => program with { WindowManager = manager },
                "With window, a window manager that runs on that display, absolute: only where a program needs one, for its windows to "
                    + "be placed, framed or given the keyboard."
            ) with
            {
                Label = "Window manager",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "/usr/bin/lwm",
            },
            Many(
                "answers",
                AnswerKeys.Answers,
                program => program.Answers.IsEmpty ? null : program.Answers,
                (program, answers) => program with { Answers = answers },
                "Questions that it is known to ask at its terminal, and what each is answered; where nothing is, it waits there "
                    + "when all is well."
            ) with
            {
                Label = "Known questions",
                Default = "none",
                IsNothingLeftOut = true,
                Example = "[{ question: \"Overwrite? [y/N] \", with: \"n\\n\" }]",
                Flag = "answer",
                AtOnce = true,
            }
        )
        {
            Check = Check,
        };

    private static IEnumerable<SecretUse> ReadSecrets(MapReader map)
    {
        foreach (var (item, at) in map.Items("secrets"))
        {
            if (item is ScalarNode scalar && Variable.Read(scalar.Text, out var name))
                yield return new(name, AsFile: false);
            else if (item is not MapNode)
                map.WrongItem(at, item, $"a name ({Variable.Allowed}), or {{ key: NAME, as: file }}");
            else if (Secret.Read(map.Inner(item, at, "")!, new("", false)) is { Key.Length: > 0 } use)
                yield return use;
        }
    }

    private static Node WriteSecret(SecretUse use) => use.AsFile ? Secret.Write(use) : new ScalarNode(use.Key);

    private static void Check(MapReader map, ProgramPart program)
    {
        if (program.PidFile is not null && program.Kind != ProgramKind.Detaches)
            map.Contradicts("pid-file", "a pid file", "only with kind: detaches");
        if (program.Kind == ProgramKind.Toggles && (program.Off.IsEmpty || !Path.IsPathRooted(program.Off[0])))
        {
            map.Contradicts(
                "off",
                program.Off.IsEmpty ? "missing" : $"'{program.Off[0]}'",
                "with kind: toggles, the command that switches it off: a list that begins with an absolute path"
            );
        }

        if (program.Kind != ProgramKind.Toggles && !program.Off.IsEmpty)
        {
            map.Contradicts(
                "off",
                "a command to switch it off",
                "only with kind: toggles; other kinds are stopped by their wind-down"
            );
        }

        if (program is { Window: not null, Kind: ProgramKind.Toggles })
            map.Contradicts(
                "window",
                "a display of its own, for a program that toggles",
                "kinds stays, detaches and periodic: nothing of it runs that could show a window"
            );
        if (program is { WindowManager: not null, Window: null })
            map.Contradicts(
                "window-manager",
                "a window manager, for a program without a display of its own",
                "only for a program that has one: set program.window to a size such as 1280x800"
            );
        if (!program.Answers.IsEmpty && !program.Terminal)
            map.Contradicts(
                "answers",
                "answers to questions, for a program without a terminal",
                "only for a program that has one: set program.terminal to true, or to a size such as 120x40"
            );
        foreach (var twice in program.Answers.GroupBy(known => known.Question).Where(same => same.Count() > 1))
            map.Contradicts("answers", $"the question '{twice.Key}' twice", "each question once");
        foreach (var secret in program.Secrets.Where(secret => program.Environment.ContainsKey(secret.Key)))
        {
            map.Contradicts(
                "secrets",
                $"'{secret.Key}', which environment sets too",
                "each variable once: take it out of program.environment"
            );
        }
    }
}
