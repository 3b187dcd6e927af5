using System.CommandLine;
using System.Text.Json.Nodes;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// The keys of a definition as flags, the same for every command that takes one, and what they make together.
/// </summary>
internal sealed class DefinitionFlags
{
    private readonly Option<string?> title = new("--title") { Description = "One line for people" };
    private readonly Option<string?> notes = new("--notes") { Description = "What it is for, what to know about it" };
    private readonly Option<string?> kind = new("--kind")
    {
        Description =
            "stays | detaches (puts itself into the background) | toggles (with --stop-command) (default: stays)",
    };
    private readonly Option<string?> with = new("--with")
    {
        Description =
            "Interpreter of a script that is not executed by itself (default: chosen; 'calm check' lists "
            + "those there are)",
    };
    private readonly Option<string?> directory = new("--directory")
    {
        Description =
            "Working directory (default: the program's own; for the host's programs the service's state directory)",
    };
    private readonly Option<string[]> environment = new("--environment")
    {
        Description = "NAME=VALUE; may be given again for each variable",
    };
    private readonly Option<string[]> secret = new("--secret")
    {
        Description = "NAME, given as a variable, or NAME:file, given as a file; its value: calm secret set",
    };
    private readonly Option<string?> pidFile = new("--pid-file")
    {
        Description = "Where a program that detaches writes its process number",
    };
    private readonly Option<string[]> stop = new("--stop-command")
    {
        Description = "One word of the command that switches a toggle off; given again for each word",
    };
    private readonly Option<string?> account = new("--account")
    {
        Description = "Account to run as (default: yours; root must be said)",
    };
    private readonly Option<string[]> group = new("--group")
    {
        Description = "A group beside those of its account; may be given again",
    };
    private readonly Option<string?> umask = new("--umask")
    {
        Description = "Rights its files do not get, octal (default: 0022)",
    };
    private readonly Option<string?> moreRights = new("--more-rights")
    {
        Description = "Whether it may gain rights through programs such as sudo: denied | allowed (default: denied)",
    };
    private readonly Option<string?> priority = new("--priority")
    {
        Description = "idle | below-normal | normal | above-normal | high (default: normal)",
    };
    private readonly Option<string?> disk = new("--disk") { Description = "Turn at the disks: as --priority" };
    private readonly Option<string?> processors = new("--processors")
    {
        Description = "Processors it may run on, such as 0-1 (default: all)",
    };
    private readonly Option<string?> memory = new("--memory")
    {
        Description = "Most memory of its tree, such as 512MiB (default: no ceiling)",
    };
    private readonly Option<string?> cpu = new("--cpu")
    {
        Description = "Most processor time of its tree in percent of one processor, such as 150% (default: no ceiling)",
    };
    private readonly Option<string?> openFiles = new("--open-files")
    {
        Description = "Most open files of each process (default: the host's)",
    };
    private readonly Option<string?> tasks = new("--tasks")
    {
        Description = "Most processes and threads of its tree (default: no ceiling)",
    };
    private readonly Option<string?> at = new("--at")
    {
        Description =
            "When it begins: boot | boot-late (once all of boot is proven) | request | never (every start is "
            + "refused) (default: request)",
    };
    private readonly Option<string?> atLatest = new("--at-latest")
    {
        Description = "With boot-late, how long it waits for all of boot at most (default: 2 min)",
    };
    private readonly Option<string[]> need = new("--need")
    {
        Description = $"What must be true before it is launched: {BeginFlags.Needs}. May be given again",
    };
    private readonly Option<string?> proof = new("--proof")
    {
        Description = $"What shows that it serves: {BeginFlags.Proofs} (default: up-for:1s)",
    };
    private readonly Option<string?> recover = new("--recover")
    {
        Description = "After which ends it is begun again: failure | any-end | never (default: failure)",
    };
    private readonly Option<string?> pause = new("--pause")
    {
        Description =
            "Pause before the first try, such as 1s; each next one is twice as long, up to 1 min (default: 1 s)",
    };
    private readonly Option<string?> holdEnds = new("--hold-ends")
    {
        Description = "Bad ends within 10 min that put it on hold; 0: never (default: 5)",
    };
    private readonly Option<string?> holdWithin = new("--hold-within")
    {
        Description = "The time those bad ends must fall within (default: 10 min)",
    };
    private readonly Option<string?> retryEvery = new("--retry-every")
    {
        Description = "While on hold, it is tried again by itself so often, such as 30min (default: never)",
    };
    private readonly Option<string[]> code = new("--code")
    {
        Description =
            "What follows an exit code or signal: 0=done, 3=hold, 75=again, 7=again-at-once, "
            + "SEGV=stop-dependents. May be given again",
    };
    private readonly Option<string[]> watch = new("--watch")
    {
        Description = $"What is looked at while it runs: {WatchFlags.Watches}. May be given again",
    };
    private readonly Option<string[]> windDown = new("--wind-down")
    {
        Description = $"A step of its clean stop: {WatchFlags.Steps}. May be given again (default: TERM 10s)",
    };
    private readonly Option<string?> terminal = new("--terminal")
    {
        Description = "true: it runs at a terminal of its own, where its wind-down can press a key (default: false)",
    };
    private readonly Option<string[]> accept = new("--accept")
    {
        Description = "Overrule a blocking finding by its code; kept with the definition",
    };

    public IEnumerable<Option> All =>
        [
            title,
            notes,
            kind,
            with,
            directory,
            environment,
            secret,
            pidFile,
            stop,
            account,
            group,
            umask,
            moreRights,
            priority,
            disk,
            processors,
            memory,
            cpu,
            openFiles,
            tasks,
            at,
            atLatest,
            need,
            proof,
            watch,
            recover,
            pause,
            holdEnds,
            holdWithin,
            retryEvery,
            code,
            windDown,
            terminal,
            accept,
        ];

    /// <summary>Codes of findings to be overruled, as a call takes them.</summary>
    public string Accepted(ParseResult parsed) => string.Join(',', parsed.GetValue(accept) ?? []);

    public bool AnyGiven(ParseResult parsed) => All.Any(option => parsed.GetResult(option) is { Implicit: false });

    /// <summary>What was given, as a definition; what was not keeps its default, or what it is laid over.</summary>
    /// <param name="program">What stood behind <c>--</c>; null leaves the program out.</param>
    public JsonObject Definition(ParseResult parsed, string? name, string[]? program)
    {
        var variables = new Dictionary<string, string>();
        foreach (var pair in parsed.GetValue(environment) ?? [])
        {
            var equals = pair.IndexOf('=', StringComparison.Ordinal);
            if (equals <= 0)
                throw new Failure(Exit.Usage, $"--environment: found '{pair}'; allowed: NAME=VALUE.");
            variables[pair[..equals]] = pair[(equals + 1)..];
        }

        return Compact(
                new JsonObject
                {
                    ["name"] = name,
                    ["title"] = parsed.GetValue(title),
                    ["notes"] = parsed.GetValue(notes),
                    ["program"] = Compact(
                        new JsonObject
                        {
                            ["kind"] = parsed.GetValue(kind),
                            ["path"] = program is { Length: > 0 } ? Find(program[0]) : null,
                            ["with"] = parsed.GetValue(with) is { } interpreter ? Find(interpreter) : null,
                            ["arguments"] = program is { Length: > 1 } ? Texts(program[1..]) : null,
                            ["directory"] = parsed.GetValue(directory) is { } place ? Path.GetFullPath(place) : null,
                            ["environment"] = Compact(
                                new JsonObject(
                                    variables.Select(pair => KeyValuePair.Create(pair.Key, (JsonNode?)pair.Value))
                                )
                            ),
                            ["secrets"] = parsed.GetValue(secret) is { Length: > 0 } secrets
                                ? new JsonArray([.. secrets.Select(Secret)])
                                : null,
                            ["pid-file"] = parsed.GetValue(pidFile) is { } file ? Path.GetFullPath(file) : null,
                            ["terminal"] = parsed.GetValue(terminal),
                            ["stop"] = parsed.GetValue(stop) is { Length: > 0 } words
                                ? Texts([Find(words[0]), .. words[1..]])
                                : null,
                        }
                    ),
                    ["identity"] = Compact(
                        new JsonObject
                        {
                            ["account"] = parsed.GetValue(account),
                            ["groups"] = parsed.GetValue(group) is { Length: > 0 } groups ? Texts(groups) : null,
                            ["umask"] = parsed.GetValue(umask),
                            ["more-rights"] = parsed.GetValue(moreRights),
                        }
                    ),
                    ["resources"] = Compact(
                        new JsonObject
                        {
                            ["priority"] = parsed.GetValue(priority),
                            ["disk"] = parsed.GetValue(disk),
                            ["processors"] = parsed.GetValue(processors),
                            ["memory"] = parsed.GetValue(memory),
                            ["cpu"] = parsed.GetValue(cpu),
                            ["open-files"] = parsed.GetValue(openFiles),
                            ["tasks"] = parsed.GetValue(tasks),
                        }
                    ),
                    ["begin"] = Compact(
                        new JsonObject
                        {
                            ["at"] = parsed.GetValue(at),
                            ["at-latest"] = parsed.GetValue(atLatest),
                            ["needs"] = parsed.GetValue(need) is { Length: > 0 } needs
                                ? new JsonArray([.. needs.Select(BeginFlags.Need)])
                                : null,
                            ["proof"] = parsed.GetValue(proof) is { } shown ? BeginFlags.Proof(shown) : null,
                        }
                    ),
                    ["watch"] = parsed.GetValue(watch) is { Length: > 0 } watches
                        ? new JsonArray([.. watches.Select(WatchFlags.Watch)])
                        : null,
                    ["recover"] = Compact(
                        new JsonObject
                        {
                            ["after"] = parsed.GetValue(recover),
                            ["pause"] = Compact(new JsonObject { ["first"] = parsed.GetValue(pause) }),
                            ["hold"] = Compact(
                                new JsonObject
                                {
                                    ["ends"] = parsed.GetValue(holdEnds),
                                    ["within"] = parsed.GetValue(holdWithin),
                                    ["retry-every"] = parsed.GetValue(retryEvery),
                                }
                            ),
                            ["codes"] = parsed.GetValue(code) is { Length: > 0 } given
                                ? new JsonObject(given.Select(WatchFlags.Code))
                                : null,
                        }
                    ),
                    ["wind-down"] = parsed.GetValue(windDown) is { Length: > 0 } steps
                        ? new JsonArray([.. steps.Select(WatchFlags.Step)])
                        : null,
                    ["accept"] = parsed.GetValue(accept) is { Length: > 0 } codes ? Texts(codes) : null,
                }
            ) ?? [];
    }

    public static JsonArray Texts(IEnumerable<string> texts) => new([.. texts.Select(text => (JsonNode)text)]);

    /// <summary>Without what was not given; null when nothing is left.</summary>
    public static JsonObject? Compact(JsonObject map)
    {
        foreach (var key in map.Where(entry => entry.Value is null).Select(entry => entry.Key).ToList())
            map.Remove(key);
        return map.Count == 0 ? null : map;
    }

    /// <summary>The program as the caller's shell would find it: by path from here, else by PATH.</summary>
    public static string Find(string program)
    {
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
            if (File.Exists(candidate))
                return candidate;
        }

        throw new Failure(
            Exit.NotTrue,
            $"There is no program '{program}' in any folder of your PATH.",
            $"Give its path; if it lies in this folder, write ./{program}.",
            "program-missing"
        );
    }

    private static JsonNode Secret(string text) =>
        text.EndsWith(":file", StringComparison.Ordinal)
            ? new JsonObject { ["key"] = text[..^5], ["as"] = "file" }
            : text;
}
