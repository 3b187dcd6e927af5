using System.Collections.Frozen;
using System.Collections.Immutable;

namespace CalmSentry.Core.Definitions;

/// <summary>From a node tree to the one typed model; every error is found in one reading.</summary>
public static class DefinitionReader
{
    public const string Format = "calm-sentry/1";

    /// <returns>The definition, or null with at least one error.</returns>
    public static (Definition? Definition, IReadOnlyList<DefinitionError> Errors) Read(Node node)
    {
        var errors = new List<DefinitionError>();
        if (node is not MapNode map)
            return (null, [new("definition", node.InWords, "keys with values", node.Place)]);
        var given = ImmutableHashSet.CreateBuilder<string>(StringComparer.Ordinal);
        var top = new MapReader(map, "", errors, given);
        top.Text("format", Format, text => text == Format);
        var name = top.Required("name", ServiceName.Allowed, ServiceName.IsValid);
        var title = top.Text(
            "title",
            "one line of text, at most 120 characters",
            text => text.Length is > 0 and <= 120 && !text.Contains('\n')
        );
        var notes = top.Text("notes", "text of at most 4000 characters", text => text.Length <= 4000);

        ProgramPart? part = null;
        if (top.Map("program") is { } program)
            part = ReadProgram(program, errors, given);
        else if (!map.Entries.Any(entry => entry.Key == "program"))
            errors.Add(new("program", "missing", "a map with at least path", map.Place));
        var identity = top.Map("identity") is { } who ? ReadIdentity(who) : new IdentityPart("");
        var resources = top.Map("resources") is { } share ? ReadResources(share) : new ResourcesPart();

        var begin = top.Map("begin") is { } beginning ? BeginReader.Read(beginning) : new BeginPart();
        var recover = top.Map("recover") is { } recovery ? ReadRecover(recovery) : new RecoverPart();
        var watch = WatchReader.Read(top);
        var windDown = WindDownReader.Read(top, part?.Terminal == true);
        var accept = top.Texts("accept", "codes of findings, such as copy-running", ServiceName.IsValid);
        if (part?.Kind == ProgramKind.Toggles && windDown is not null)
            top.Contradicts(
                "wind-down",
                "steps for a program that toggles",
                "program.stop switches it off; leave wind-down out"
            );
        if (part?.Kind == ProgramKind.Toggles && watch.Any(one => one is not (AnswerWatch or FreshFileWatch)))
            top.Contradicts(
                "watch",
                "a watch of processes or output, for a program that toggles",
                "http, tcp, command and file: nothing of its own runs between its two commands"
            );
        if (
            recover.After == RecoverAfter.Never
            && watch.Any(one => one.Then is WatchThen.Restart or WatchThen.RestartByForce)
        )
            top.Contradicts(
                "watch",
                "a watch that restarts it, with recover.after: never",
                "then: note or tell for each watch, or another recover.after"
            );
        top.Done();
        if (errors.Count > 0 || part is null)
            return (null, errors);
        return (
            new Definition
            {
                Name = name!,
                Title = title ?? name!,
                Notes = notes ?? "",
                Program = part,
                Identity = identity,
                Resources = resources,
                Accept = accept,
                Begin = begin,
                Recover = recover,
                WindDown = windDown ?? Definition.DefaultWindDown,
                Watch = part.Kind == ProgramKind.Toggles ? watch : WatchReader.WithImplied(watch, resources, recover),
                Given = given.ToImmutable(),
            },
            errors
        );
    }

    private static ProgramPart? ReadProgram(
        MapReader program,
        List<DefinitionError> errors,
        ImmutableHashSet<string>.Builder given
    )
    {
        var kind = program.Choice(
            "kind",
            ProgramKind.Stays,
            ("stays", ProgramKind.Stays),
            ("detaches", ProgramKind.Detaches),
            ("toggles", ProgramKind.Toggles)
        );
        var path = program.Required("path", "an absolute path", Path.IsPathRooted);
        var with = program.Text("with", "the interpreter's absolute path", Path.IsPathRooted);
        var arguments = program.Texts("arguments");
        var directory = program.Text("directory", "an absolute path", Path.IsPathRooted);
        var environment = program.Pairs("environment", VariableAllowed, IsVariable);
        var secrets = ReadSecrets(program, errors, given);
        var pidFile = program.Text("pid-file", "an absolute path", Path.IsPathRooted);
        var stop = program.Texts("stop");
        var terminal = program.Switch("terminal");
        if (pidFile is not null && kind != ProgramKind.Detaches)
            program.Contradicts("pid-file", "a pid file", "only with kind: detaches");
        if (kind == ProgramKind.Toggles && (stop.Length == 0 || !Path.IsPathRooted(stop[0])))
            program.Contradicts(
                "stop",
                stop.Length == 0 ? "missing" : $"'{stop[0]}'",
                "with kind: toggles, the command that switches it off: a list beginning with an absolute path"
            );
        if (kind != ProgramKind.Toggles && !stop.IsEmpty)
            program.Contradicts(
                "stop",
                "a stop command",
                "only with kind: toggles; other kinds are stopped by their wind-down"
            );
        foreach (var secret in secrets.Where(secret => environment.ContainsKey(secret.Key)))
            program.Contradicts(
                "secrets",
                $"'{secret.Key}', which environment sets too",
                "each variable once: take it out of program.environment"
            );
        program.Done();
        return path is null
            ? null
            : new(path, arguments, directory, environment)
            {
                Kind = kind,
                With = with,
                Secrets = secrets,
                PidFile = pidFile,
                Stop = stop,
                Terminal = terminal,
            };
    }

    private static ImmutableArray<SecretUse> ReadSecrets(
        MapReader program,
        List<DefinitionError> errors,
        ImmutableHashSet<string>.Builder given
    )
    {
        var secrets = ImmutableArray.CreateBuilder<SecretUse>();
        foreach (var (item, at) in program.Items("secrets") ?? [])
        {
            switch (item)
            {
                case ScalarNode scalar when IsVariable(scalar.Text):
                    secrets.Add(new(scalar.Text, AsFile: false));
                    break;
                case MapNode map:
                    var use = new MapReader(map, at, errors, given);
                    var key = use.Required("key", VariableAllowed, IsVariable);
                    var asFile = use.Choice("as", false, ("variable", false), ("file", true));
                    use.Done();
                    if (key is not null)
                        secrets.Add(new(key, asFile));
                    break;
                default:
                    errors.Add(
                        new(at, item.InWords, $"a name ({VariableAllowed}), or {{ key: NAME, as: file }}", item.Place)
                    );
                    break;
            }
        }

        return secrets.ToImmutable();
    }

    private static IdentityPart ReadIdentity(MapReader identity)
    {
        var part = new IdentityPart(identity.Text("account", "an account's name", text => text.Length > 0) ?? "")
        {
            Groups = identity.Texts("groups", "a group's name", text => text.Length > 0),
        };
        part = part with
        {
            Umask = identity.Value("umask", "an octal number from 0000 to 0777", ReadOctal) ?? part.Umask,
            MoreRights = identity.Choice("more-rights", part.MoreRights, ("denied", false), ("allowed", true)),
        };
        identity.Done();
        return part;
    }

    private static ResourcesPart ReadResources(MapReader resources)
    {
        (string, PriorityClass)[] classes =
        [
            ("idle", PriorityClass.Idle),
            ("below-normal", PriorityClass.BelowNormal),
            ("normal", PriorityClass.Normal),
            ("above-normal", PriorityClass.AboveNormal),
            ("high", PriorityClass.High),
        ];
        var part = new ResourcesPart
        {
            Priority = resources.Choice("priority", PriorityClass.Normal, classes),
            Disk = resources.Choice("disk", PriorityClass.Normal, classes),
            Processors = resources.Value("processors", Processors.Allowed, Processors.Read) ?? [],
            Memory = resources.Value("memory", Size.Allowed, Size.Read),
            Cpu = resources.Value("cpu", "percent of one processor, from 1 % to 100000 %", ReadPercent),
            OpenFiles = resources.Value(
                "open-files",
                "a whole number from 16 to 1048576",
                text => ReadWhole(text, 16, 1_048_576)
            ),
            Tasks = resources.Value("tasks", "a whole number from 1 to 4194304", text => ReadWhole(text, 1, 4_194_304)),
        };
        resources.Done();
        return part;
    }

    internal static int? ReadWhole(string text, int least, int most) =>
        int.TryParse(
            text,
            System.Globalization.NumberStyles.None,
            System.Globalization.CultureInfo.InvariantCulture,
            out var number
        )
        && number >= least
        && number <= most
            ? number
            : null;

    internal static int? ReadPercent(string text) => ReadWhole(text.TrimEnd('%').TrimEnd(), 1, 100_000);

    private static int? ReadOctal(string text) =>
        text.Length is > 0 and <= 4
        && text.All(c => c is >= '0' and <= '7')
        && Convert.ToInt32(text, 8) is var mask and <= 0x1FF
            ? mask
            : null;

    private static RecoverPart ReadRecover(MapReader recover)
    {
        var part = new RecoverPart();
        part = part with
        {
            After = recover.Choice(
                "after",
                part.After,
                ("failure", RecoverAfter.Failure),
                ("any-end", RecoverAfter.AnyEnd),
                ("never", RecoverAfter.Never)
            ),
        };
        if (recover.Map("pause") is { } pause)
        {
            part = part with
            {
                First = pause.Time("first", part.First),
                Grow = pause.Number("grow", part.Grow, 1, 100),
                Longest = pause.Time("longest", part.Longest),
                SteadyAfter = pause.Time("steady-after", part.SteadyAfter),
                Spread =
                    pause.Value(
                        "spread",
                        "percent from 0 % to 100 %",
                        text => ReadWhole(text.TrimEnd('%').TrimEnd(), 0, 100)
                    ) ?? part.Spread,
            };
            pause.Done();
        }

        if (recover.Map("hold") is { } hold)
        {
            part = part with
            {
                HoldEnds = (int)hold.Number("ends", part.HoldEnds, 0, 1000, whole: true),
                HoldWithin = hold.Time("within", part.HoldWithin),
                RetryEvery = hold.Value<TimeSpan>(
                    "retry-every",
                    $"{Duration.Allowed}, 1 s or more",
                    text => Duration.TryRead(text, out var length) && length >= TimeSpan.FromSeconds(1) ? length : null
                ),
            };
            hold.Done();
        }

        part = part with { Codes = ReadCodes(recover) };

        recover.Done();
        return part;
    }

    private static ImmutableSortedDictionary<string, CodeThen> ReadCodes(MapReader recover)
    {
        var codes = ImmutableSortedDictionary.CreateBuilder<string, CodeThen>(StringComparer.Ordinal);
        foreach (
            var (key, word) in recover.Pairs(
                "codes",
                $"an exit code from 0 to 255, or a signal: "
                    + $"{string.Join(", ", SignalNames.Ends.Keys.Order(StringComparer.Ordinal))}",
                key => ReadWhole(key, 0, 255) is not null || SignalNames.Ends.ContainsKey(key)
            )
        )
        {
            if (CodeWords.TryGetValue(word, out var then))
                codes[key] = then;
            else
                recover.Contradicts(
                    "codes",
                    $"'{word}' for {key}",
                    string.Join(" | ", CodeWords.Keys.Order(StringComparer.Ordinal))
                );
        }

        return codes.ToImmutable();
    }

    /// <summary>What may follow an exit code or signal, by its word.</summary>
    public static FrozenDictionary<string, CodeThen> CodeWords { get; } =
        new Dictionary<string, CodeThen>(StringComparer.Ordinal)
        {
            ["done"] = CodeThen.Done,
            ["again"] = CodeThen.Again,
            ["again-at-once"] = CodeThen.AgainAtOnce,
            ["hold"] = CodeThen.Hold,
            ["stop-dependents"] = CodeThen.StopDependents,
        }.ToFrozenDictionary(StringComparer.Ordinal);

    private const string VariableAllowed = "a variable's name: letters, digits and _, not beginning with a digit";

    private static bool IsVariable(string name) =>
        name.Length > 0 && !char.IsAsciiDigit(name[0]) && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '_');
}
