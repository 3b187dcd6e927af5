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
        if (node is not MapNode map) return (null, [new("definition", MapReader.Describe(node), "keys with values", node.Place)]);
        var given = ImmutableHashSet.CreateBuilder<string>(StringComparer.Ordinal);
        var top = new MapReader(map, "", errors, given);
        top.Text("format", Format, text => text == Format);
        var name = top.Required("name", ServiceName.Allowed, ServiceName.IsValid);
        var title = top.Text("title", "one line of text, at most 120 characters", text => text.Length is > 0 and <= 120 && !text.Contains('\n'));
        var notes = top.Text("notes", "text of at most 4000 characters", text => text.Length <= 4000);

        ProgramPart? part = null;
        if (top.Map("program") is { } program)
        {
            var path = program.Required("path", "an absolute path", Path.IsPathRooted);
            var arguments = program.Texts("arguments");
            var directory = program.Text("directory", "an absolute path", Path.IsPathRooted);
            var environment = program.Pairs("environment", "a variable's name: letters, digits and _, not beginning with a digit", IsVariable);
            program.Done();
            if (path is not null) part = new(path, arguments, directory, environment);
        }
        else if (!map.Entries.Any(entry => entry.Key == "program"))
        {
            errors.Add(new("program", "missing", "a map with at least path", map.Place));
        }

        var account = "";
        if (top.Map("identity") is { } identity)
        {
            account = identity.Text("account", "an account's name", text => text.Length > 0) ?? "";
            identity.Done();
        }

        var at = BeginAt.Request;
        if (top.Map("begin") is { } begin)
        {
            at = begin.Choice("at", BeginAt.Request, ("boot", BeginAt.Boot), ("request", BeginAt.Request));
            begin.Done();
        }

        var recover = top.Map("recover") is { } recovery ? ReadRecover(recovery) : new RecoverPart();
        var windDown = ReadWindDown(top, errors, given);
        top.Done();
        if (errors.Count > 0 || part is null) return (null, errors);
        return (new Definition
        {
            Name = name!,
            Title = title ?? name!,
            Notes = notes ?? "",
            Program = part,
            Account = account,
            At = at,
            Recover = recover,
            WindDown = windDown ?? new Definition { Name = "", Title = "", Program = part, Account = "" }.WindDown,
            Given = given.ToImmutable(),
        }, errors);
    }

    private static RecoverPart ReadRecover(MapReader recover)
    {
        var part = new RecoverPart();
        part = part with
        {
            After = recover.Choice("after", part.After, ("failure", RecoverAfter.Failure), ("any-end", RecoverAfter.AnyEnd), ("never", RecoverAfter.Never)),
        };
        if (recover.Map("pause") is { } pause)
        {
            part = part with
            {
                First = pause.Time("first", part.First),
                Grow = pause.Number("grow", part.Grow, 1, 100),
                Longest = pause.Time("longest", part.Longest),
                SteadyAfter = pause.Time("steady-after", part.SteadyAfter),
            };
            pause.Done();
        }

        if (recover.Map("hold") is { } hold)
        {
            part = part with
            {
                HoldEnds = (int)hold.Number("ends", part.HoldEnds, 0, 1000, whole: true),
                HoldWithin = hold.Time("within", part.HoldWithin),
            };
            hold.Done();
        }

        recover.Done();
        return part;
    }

    private static ImmutableArray<WindDownStep>? ReadWindDown(MapReader top, List<DefinitionError> errors, ImmutableHashSet<string>.Builder given)
    {
        if (top.Items("wind-down") is not { } items) return null;
        var steps = ImmutableArray.CreateBuilder<WindDownStep>();
        foreach (var (item, path) in items)
        {
            if (item is not MapNode map)
            {
                errors.Add(new(path, MapReader.Describe(item), "a step such as { signal: TERM, wait: 10 s }", item.Place));
                continue;
            }

            var step = new MapReader(map, path, errors, given);
            var signal = step.Required("signal", string.Join(", ", SignalNames.Numbers.Keys.Order()), SignalNames.Numbers.ContainsKey);
            var wait = step.Time("wait", TimeSpan.FromSeconds(10));
            step.Done();
            if (signal is not null) steps.Add(new(signal, wait));
        }

        return steps.ToImmutable();
    }

    private static bool IsVariable(string name) =>
        name.Length > 0 && !char.IsAsciiDigit(name[0]) && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '_');
}
