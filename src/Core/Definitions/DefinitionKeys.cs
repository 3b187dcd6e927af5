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
    Pairs,
    Map,

    /// <summary>A list of maps, or of texts and maps.</summary>
    Items,
}

/// <summary>One key of a definition, as people and editors are told of it.</summary>
/// <param name="Default">What holds when it is left out, in words; null: it must be given.</param>
/// <param name="Pattern">Regular expression its text matches (ECMA 262), or null.</param>
public sealed record DefinitionKey(
    string Name,
    KeyType Type,
    string About,
    string? Default,
    string? Example = null,
    string? Pattern = null,
    string[]? Choices = null,
    DefinitionKey[]? Inner = null
);

/// <summary>Every key there is. The reader takes exactly these; a test holds the two together.</summary>
public static class DefinitionKeys
{
    private const string Path = "^/",
        Variable = "^[A-Za-z_][A-Za-z0-9_]*$",
        Length = @"^(0|[0-9]+(\.[0-9]+)? ?(ms|s|min|h|d))$";

    private static readonly string[] Classes = ["idle", "below-normal", "normal", "above-normal", "high"];

    public static DefinitionKey[] All { get; } =
    [
        new("format", KeyType.Choice, "The form of this file.", "calm-sentry/1", Choices: ["calm-sentry/1"]),
        new(
            "name",
            KeyType.Text,
            "Short name: lower-case letters, digits and dashes, at most 48. What the service is called in "
                + "commands and files.",
            null,
            "fare-ledger",
            "^[a-z0-9][a-z0-9-]{0,47}$"
        ),
        new("title", KeyType.Text, "One line for people.", "the name", "Fare ledger"),
        new(
            "notes",
            KeyType.Text,
            "What it is for and what to know about it.",
            "none",
            "Books every ticket sold at the quay."
        ),
        new(
            "program",
            KeyType.Map,
            "The program and how it is run.",
            null,
            Inner:
            [
                new(
                    "kind",
                    KeyType.Choice,
                    "stays: the process launched is the program. detaches: it puts itself into the background. "
                        + "toggles: one command switches something on, another off.",
                    "stays",
                    Choices: ["stays", "detaches", "toggles"]
                ),
                new("path", KeyType.Text, "The program's file, absolute.", null, "/srv/skerry/ledger/ledger.py", Path),
                new(
                    "with",
                    KeyType.Text,
                    "The interpreter, absolute, where the file is a script that is not executed by itself.",
                    "chosen when it is wrapped: a virtual environment beside the script, the script's first line, "
                        + "or its kind",
                    "/usr/bin/python3",
                    Path
                ),
                new(
                    "arguments",
                    KeyType.Texts,
                    "Passed exactly as they are: spaces, quotes, line ends and empty texts too.",
                    "none",
                    "[--book, day.book]"
                ),
                new(
                    "directory",
                    KeyType.Text,
                    "The working directory, absolute.",
                    "the program's own; of the host's programs the service's state directory",
                    "/srv/skerry/ledger",
                    Path
                ),
                new(
                    "environment",
                    KeyType.Pairs,
                    "Variables beside the base every service gets: PATH, HOME, USER, LOGNAME, SHELL, LANG, "
                        + "CALM_SERVICE, CALM_STATE, CALM_TELL, CALM_RUN. Nothing else is inherited.",
                    "none",
                    "{ TZ: Europe/Oslo }"
                ),
                new(
                    "secrets",
                    KeyType.Items,
                    "Names of secrets it is given, each as the variable of that name, or with { key: NAME, as: "
                        + "file } as a file whose path is in the variable. Values: calm secret set.",
                    "none",
                    "[LEDGER_KEY, { key: SEAL, as: file }]",
                    Inner:
                    [
                        new("key", KeyType.Text, "The secret's name.", null, "LEDGER_KEY", Variable),
                        new("as", KeyType.Choice, "How it is given.", "variable", Choices: ["variable", "file"]),
                    ]
                ),
                new(
                    "pid-file",
                    KeyType.Text,
                    "With kind: detaches, the file its real process writes its number into, absolute.",
                    "the process is found by its tree",
                    "/run/relay/relay.pid",
                    Path
                ),
                new(
                    "stop",
                    KeyType.Texts,
                    "With kind: toggles, the command that switches it off, program first.",
                    "none",
                    "[/usr/local/sbin/lamps, off]"
                ),
                new(
                    "terminal",
                    KeyType.Switch,
                    "It runs at a terminal of its own, as in a window: its wind-down can press a key there, and "
                        + "much is printed line by line.",
                    "false: with pipes"
                ),
            ]
        ),
        new(
            "identity",
            KeyType.Map,
            "Who the program is.",
            "see inside",
            Inner:
            [
                new(
                    "account",
                    KeyType.Text,
                    "The account it runs as; it must be permitted (calm account permit).",
                    "whoever wraps it; root must be said",
                    "skerry-ledger"
                ),
                new("groups", KeyType.Texts, "Groups it is given beside those of its account.", "none", "[skerry]"),
                new(
                    "umask",
                    KeyType.Text,
                    "Rights that files it makes do not get, octal.",
                    "0022",
                    "\"0027\"",
                    "^[0-7]{1,4}$"
                ),
                new(
                    "more-rights",
                    KeyType.Choice,
                    "Whether it may gain more rights than its account has, through programs such as sudo.",
                    "denied",
                    Choices: ["denied", "allowed"]
                ),
            ]
        ),
        new(
            "resources",
            KeyType.Map,
            "What it may use of the machine, enforced by the kernel for its whole tree.",
            "as much as there is",
            Inner:
            [
                new(
                    "priority",
                    KeyType.Choice,
                    "Its share of the processors when they are wanted by many (nice 19, 10, 0, -5, -10).",
                    "normal",
                    Choices: Classes
                ),
                new("disk", KeyType.Choice, "Its turn at the disks.", "normal: by its priority", Choices: Classes),
                new(
                    "processors",
                    KeyType.Text,
                    "Processors it may run on.",
                    "all",
                    "0-1",
                    @"^[0-9]+(-[0-9]+)?(,[0-9]+(-[0-9]+)?)*$"
                ),
                new(
                    "memory",
                    KeyType.Text,
                    "Most memory of its tree; over it the kernel ends it.",
                    "no ceiling",
                    "512 MiB",
                    @"^[0-9]+(\.[0-9]+)? ?(KiB|MiB|GiB|TiB|kB|MB|GB|TB)$"
                ),
                new(
                    "cpu",
                    KeyType.Text,
                    "Most processor time of its tree, in percent of one processor.",
                    "no ceiling",
                    "150 %",
                    "^[0-9]+ ?%?$"
                ),
                new(
                    "open-files",
                    KeyType.Number,
                    "Most files and sockets each of its processes may have open, 16 to 1048576.",
                    "the host's",
                    "4096"
                ),
                new("tasks", KeyType.Number, "Most processes and threads of its tree.", "no ceiling", "64"),
            ]
        ),
        new(
            "begin",
            KeyType.Map,
            "When it begins.",
            "see inside",
            Inner:
            [
                new(
                    "at",
                    KeyType.Choice,
                    "boot: with the machine, before anyone logs in. boot-late: once all of boot is proven. "
                        + "request: when somebody asks. never: every start is refused.",
                    "request",
                    Choices: ["boot", "boot-late", "request", "never"]
                ),
                new(
                    "at-latest",
                    KeyType.Text,
                    "With boot-late, how long it waits for all of boot at most.",
                    "2 min",
                    "2 min",
                    Length
                ),
                new(
                    "needs",
                    KeyType.Items,
                    "What must be true before it is launched. Each is one of network, service, tcp, path, after-boot.",
                    "nothing",
                    "[{ network: up }, { service: tide-store }]",
                    Inner:
                    [
                        new(
                            "network",
                            KeyType.Text,
                            "up: an address that is not loopback's, and a default route. Or the name of an "
                                + "interface that must be up with an address.",
                            "not this kind",
                            "up"
                        ),
                        new(
                            "service",
                            KeyType.Text,
                            "Another service, proven ready. It is started when it is stopped, begins before and "
                                + "stops after.",
                            "not this kind",
                            "tide-store",
                            "^[a-z0-9][a-z0-9-]{0,47}$"
                        ),
                        new(
                            "tcp",
                            KeyType.Text,
                            "Something that takes connections there.",
                            "not this kind",
                            "127.0.0.1:5432"
                        ),
                        new(
                            "path",
                            KeyType.Text,
                            "A file or directory that is there.",
                            "not this kind",
                            "/mnt/manifests",
                            Path
                        ),
                        new(
                            "after-boot",
                            KeyType.Text,
                            "So long since the machine came up.",
                            "not this kind",
                            "30 s",
                            Length
                        ),
                        new("mounted", KeyType.Switch, "With path: a file system must be mounted there.", "false"),
                        new("writable", KeyType.Switch, "With path: its account must be able to write there.", "false"),
                        new(
                            "if-lost",
                            KeyType.Choice,
                            "With service, when that one goes away: leave this one as it is; restart it once the "
                                + "other is proven again; or let it go down too, to begin again with the other.",
                            "leave",
                            Choices: ["leave", "restart", "go-down"]
                        ),
                        new(
                            "within",
                            KeyType.Text,
                            "How long it is waited for before what then says.",
                            "5 min (of after-boot, that much longer than it)",
                            "2 min",
                            Length
                        ),
                        new(
                            "then",
                            KeyType.Choice,
                            "tell: say so and go on waiting. go-ahead: begin without it. hold: put the "
                                + "service on hold.",
                            "tell",
                            Choices: ["tell", "go-ahead", "hold"]
                        ),
                    ]
                ),
                new(
                    "proof",
                    KeyType.Map,
                    "What shows that the program serves; until then it is starting. One of tcp, http, output, "
                        + "file, command, told, up-for.",
                    "up-for 1 s",
                    Inner:
                    [
                        new("tcp", KeyType.Text, "It takes connections there.", "not this kind", "127.0.0.1:7411"),
                        new(
                            "http",
                            KeyType.Text,
                            "This address answers.",
                            "not this kind",
                            "http://127.0.0.1:7411/health"
                        ),
                        new(
                            "status",
                            KeyType.Number,
                            "With http, the status it must answer.",
                            "any from 200 to 399",
                            "200"
                        ),
                        new("text", KeyType.Text, "With http, what must be in the answer.", "anything", "open"),
                        new(
                            "output",
                            KeyType.Text,
                            "It prints a line that matches this regular expression.",
                            "not this kind",
                            "listening on"
                        ),
                        new(
                            "file",
                            KeyType.Text,
                            "It has written this file since its launch.",
                            "not this kind",
                            "/run/relay/ready",
                            Path
                        ),
                        new(
                            "command",
                            KeyType.Texts,
                            "This command, run as the account, ends with exit code 0; program first.",
                            "not this kind",
                            "[/usr/bin/ledger-ping]"
                        ),
                        new(
                            "told",
                            KeyType.Choice,
                            "ready: the program says so itself, with one HTTP call to the Unix socket in CALM_TELL.",
                            "not this kind",
                            Choices: ["ready"]
                        ),
                        new("up-for", KeyType.Text, "It has simply stayed up for so long.", "1 s", "5 s", Length),
                        new(
                            "within",
                            KeyType.Text,
                            "How long after its launch the proof may take.",
                            "1 min",
                            "20 s",
                            Length
                        ),
                        new(
                            "if-not",
                            KeyType.Choice,
                            "When it does not come in time. try-again: a failed start, wound down. tell: say so "
                                + "and go on waiting.",
                            "try-again",
                            Choices: ["try-again", "tell"]
                        ),
                    ]
                ),
            ]
        ),
        new(
            "watch",
            KeyType.Items,
            "What is looked at while it runs. Each is one of http, tcp, command, silent-for, file, alive-within, "
                + "memory-above, cpu-above, open-files-above, children-above, ceiling-within, paused-for.",
            "paused-for 30 s; with resources.memory also ceiling-within 1 h",
            "[{ http: http://127.0.0.1:7411/health }, { silent-for: 10 min }]",
            Inner:
            [
                new("http", KeyType.Text, "This address answers.", "not this kind", "http://127.0.0.1:7411/health"),
                new("status", KeyType.Number, "With http, the status it must answer.", "any from 200 to 399", "200"),
                new("text", KeyType.Text, "With http, what must be in the answer.", "anything", "open"),
                new("tcp", KeyType.Text, "It takes connections there.", "not this kind", "127.0.0.1:7411"),
                new(
                    "command",
                    KeyType.Texts,
                    "This command, run as the account, ends with exit code 0; program first.",
                    "not this kind",
                    "[/usr/bin/ledger-ping]"
                ),
                new(
                    "silent-for",
                    KeyType.Text,
                    "It has printed nothing for so long.",
                    "not this kind",
                    "10 min",
                    Length
                ),
                new(
                    "file",
                    KeyType.Text,
                    "With fresh-for, a file that must stay fresh.",
                    "not this kind",
                    "/srv/skerry/tides.csv",
                    Path
                ),
                new(
                    "fresh-for",
                    KeyType.Text,
                    "With file, how old it may be; until it has been as long since the launch it need not be there.",
                    "must be given with file",
                    "15 min",
                    Length
                ),
                new(
                    "alive-within",
                    KeyType.Text,
                    "The program says that it is alive, with an HTTP call to /alive on the Unix socket in "
                        + "CALM_TELL, at least so often.",
                    "not this kind",
                    "30 s",
                    Length
                ),
                new(
                    "memory-above",
                    KeyType.Text,
                    "Memory of its tree that is its own, above this.",
                    "not this kind",
                    "400 MiB",
                    @"^[0-9]+(\.[0-9]+)? ?(KiB|MiB|GiB|TiB|kB|MB|GB|TB)$"
                ),
                new(
                    "cpu-above",
                    KeyType.Text,
                    "Processor time of its tree, above this, in percent of one processor.",
                    "not this kind",
                    "90 %",
                    "^[0-9]+ ?%?$"
                ),
                new(
                    "open-files-above",
                    KeyType.Number,
                    "More files and sockets of its tree are open than this.",
                    "not this kind",
                    "1000"
                ),
                new(
                    "children-above",
                    KeyType.Number,
                    "More processes are below its main one than this.",
                    "not this kind",
                    "20"
                ),
                new(
                    "ceiling-within",
                    KeyType.Text,
                    "At the rate it grows, its memory reaches the ceiling of resources.memory within this time.",
                    "1 h where there is a ceiling",
                    "2 h",
                    Length
                ),
                new(
                    "paused-for",
                    KeyType.Text,
                    "Its main process has been kept stopped by a signal (SIGSTOP) for so long.",
                    "30 s, then restart",
                    "30 s",
                    Length
                ),
                new(
                    "for",
                    KeyType.Text,
                    "With the kinds that end in -above, how long it must have been above.",
                    "0 s",
                    "5 min",
                    Length
                ),
                new(
                    "every",
                    KeyType.Text,
                    "Time between two looks, at least 100 ms.",
                    "15 s for http, tcp and command, else 10 s or as soon as it is due",
                    "15 s",
                    Length
                ),
                new(
                    "patience",
                    KeyType.Number,
                    "So many looks in a row must be bad.",
                    "3 for http, tcp and command, else 1",
                    "3"
                ),
                new(
                    "then",
                    KeyType.Choice,
                    "note: an entry in the logbook. tell: somebody should look. restart: wound down and begun "
                        + "again. restart-by-force: ended at once and begun again. Both restarts count as bad ends.",
                    "restart for http, tcp, command, alive-within and paused-for, else tell",
                    Choices: ["note", "tell", "restart", "restart-by-force"]
                ),
            ]
        ),
        new(
            "recover",
            KeyType.Map,
            "What follows an end nobody asked for.",
            "see inside",
            Inner:
            [
                new(
                    "after",
                    KeyType.Choice,
                    "After which ends it is begun again.",
                    "failure",
                    Choices: ["failure", "any-end", "never"]
                ),
                new(
                    "pause",
                    KeyType.Map,
                    "How long it waits before it is begun again.",
                    "see inside",
                    Inner:
                    [
                        new("first", KeyType.Text, "Before the first try.", "1 s", "1 s", Length),
                        new("grow", KeyType.Number, "Each next pause is so many times as long, 1 to 100.", "2", "2"),
                        new("longest", KeyType.Text, "No pause is longer.", "1 min", "1 min", Length),
                        new(
                            "steady-after",
                            KeyType.Text,
                            "A run at least this long forgets the pauses before it.",
                            "10 min",
                            "10 min",
                            Length
                        ),
                        new(
                            "spread",
                            KeyType.Text,
                            "Each pause is longer by a random part of itself, up to this, so that what fell "
                                + "together does not come back at once.",
                            "10 %",
                            "10 %",
                            "^[0-9]+ ?%?$"
                        ),
                    ]
                ),
                new(
                    "hold",
                    KeyType.Map,
                    "When it is given up for now.",
                    "see inside",
                    Inner:
                    [
                        new("ends", KeyType.Number, "So many bad ends put it on hold; 0: never.", "5", "5"),
                        new("within", KeyType.Text, "Within this time.", "10 min", "10 min", Length),
                        new(
                            "retry-every",
                            KeyType.Text,
                            "While it is on hold, it is tried again by itself so often; one more bad end puts it "
                                + "back on hold.",
                            "never: calm release, or a start",
                            "30 min",
                            Length
                        ),
                    ]
                ),
                new(
                    "codes",
                    KeyType.Pairs,
                    "What follows particular ends, by exit code or signal. done: a good end, it stays down. "
                        + "again: begun again after the pause. again-at-once: without a pause, and no bad end. "
                        + "hold: put on hold. stop-dependents: it stays down, and what needs it is stopped.",
                    "none",
                    "{ 0: done, 3: hold, 75: again, SEGV: hold }"
                ),
            ]
        ),
        new(
            "wind-down",
            KeyType.Items,
            "The steps of its clean stop, in order, each one of signal, send, close, key, http, command; whatever "
                + "is left after the last is ended by force.",
            "TERM, wait 10 s",
            "[{ signal: INT, wait: 5 s }, { signal: TERM, wait: 10 s }]",
            Inner:
            [
                new(
                    "signal",
                    KeyType.Choice,
                    "A signal, to the main process unless to says otherwise.",
                    "not this kind",
                    Choices: [.. SignalNames.Numbers.Keys.Order(StringComparer.Ordinal)]
                ),
                new(
                    "send",
                    KeyType.Text,
                    "Text that is sent to where to says; what comes back is kept.",
                    "not this kind",
                    "\"close-day\\n\""
                ),
                new(
                    "to",
                    KeyType.Text,
                    "With signal, main or tree. With send, input, tcp HOST:PORT or unix /PATH.",
                    "main; must be given with send",
                    "tcp 127.0.0.1:7412"
                ),
                new(
                    "close",
                    KeyType.Choice,
                    "input: its standard input comes to its end.",
                    "not this kind",
                    Choices: ["input"]
                ),
                new(
                    "key",
                    KeyType.Choice,
                    "A key pressed at its terminal (program.terminal).",
                    "not this kind",
                    Choices: ["interrupt", "quit"]
                ),
                new(
                    "http",
                    KeyType.Text,
                    "This address is asked; what it answers is kept.",
                    "not this kind",
                    "http://127.0.0.1:7411/close"
                ),
                new("method", KeyType.Choice, "With http.", "POST", Choices: ["GET", "POST", "PUT", "DELETE"]),
                new("body", KeyType.Text, "With http, what is sent with it.", "nothing"),
                new(
                    "command",
                    KeyType.Texts,
                    "A command run as the account, program first, with the number of the main process in CALM_PID.",
                    "not this kind",
                    "[/usr/bin/ledger-close, --now]"
                ),
                new(
                    "wait",
                    KeyType.Text,
                    "How long it may take; it is over as soon as the program has ended. A step that fails "
                        + "outright is followed by the next at once.",
                    "10 s",
                    "10 s",
                    Length
                ),
            ]
        ),
        new("accept", KeyType.Texts, "Codes of blocking findings that are overruled.", "none", "[copy-running]"),
    ];
}
