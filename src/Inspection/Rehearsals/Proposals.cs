using System.Globalization;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Inspection.Rehearsals;

/// <summary>Values for a definition that follow from what a rehearsal saw.</summary>
internal static class Proposals
{
    /// <param name="stopTook">How long it took to end once asked; null when it ended otherwise.</param>
    /// <param name="followed">The process it left in the background, or 0.</param>
    public static RehearsalReport Add(
        RehearsalReport report,
        Definition definition,
        TimeSpan? stopTook,
        int followed,
        Outcome end,
        TerminalSigns signs
    )
    {
        List<Proposal> all =
        [
            .. KindOf(report, definition.Program, followed, end),
            .. MemoryOf(report, definition.Resources),
            .. ProofOf(report, definition),
            .. WindDownOf(definition, stopTook),
            .. TerminalOf(report, definition.Program, signs),
            .. WindowOf(definition.Program, signs),
            .. DialogOf(report, definition),
        ];
        var over = all.Select(one => one.Over)
            .OfType<KeyValuePair<string, Node>>()
            .GroupBy(one => one.Key)
            .Select(same =>
                same.Count() == 1
                    ? same.First()
                    : new(same.Key, new MapNode([.. same.SelectMany(one => ((MapNode)one.Value).Entries)]))
            )
            .ToList();
        var adoption = new MapNode(over);
        using var json = JsonDocument.Parse(JsonNodes.Write(adoption));
        var whole = DefinitionTrees.Overlay(
            DefinitionTrees.Trimmed(DefinitionWriter.Write(definition), definition),
            adoption
        );
        return report with
        {
            Proposals = [.. all.Select(one => one.Said)],
            Adoption = over.Count == 0 ? null : json.RootElement.Clone(),
            File = YamlNodes.Write(whole),
        };
    }

    /// <param name="Over">What of the definition it would set; null: nothing, or another proposal sets it along.</param>
    private sealed record Proposal(ProposalView Said, KeyValuePair<string, Node>? Over = null)
    {
        public Proposal(string key, string? value, string because, KeyValuePair<string, Node>? over = null)
            : this(new(key, value, because), over) { }
    }

    private static IEnumerable<Proposal> KindOf(RehearsalReport report, ProgramPart program, int followed, Outcome end)
    {
        if (report.Detached && program.Kind == ProgramKind.Stays)
        {
            var entries = new List<KeyValuePair<string, Node>> { new("kind", new ScalarNode("detaches")) };
            var pidFile =
                followed > 0
                    ? report.Files.FirstOrDefault(file =>
                        file.EndsWith(".pid", StringComparison.Ordinal) && Holds(file, followed)
                    )
                    : null;
            if (pidFile is not null)
                entries.Add(new("pid-file", new ScalarNode(pidFile)));
            yield return new(
                "program.kind",
                "detaches",
                "The process that was launched ended well and left the program in the background.",
                new("program", new MapNode(entries))
            );
            if (pidFile is not null)
                yield return new("program.pid-file", pidFile, "It writes the number of its real process there.");
        }
        else if (!report.Detached && report.StayedUp && program.Kind == ProgramKind.Detaches)
        {
            yield return new(
                "program.kind",
                "stays",
                "The process that was launched is the program: it did not put itself into the background.",
                new("program", new MapNode([new("kind", new ScalarNode("stays")), new("pid-file", new NullNode())]))
            );
        }
        else if (!report.StayedUp && end.IsGood && program.Kind == ProgramKind.Stays)
        {
            yield return new(
                "program.kind",
                null,
                "It did its work and ended well. If it switches something on that a second command switches "
                    + "off, its kind is toggles."
            );
        }
    }

    /// <summary>
    /// What a program uses in its first idle seconds says nothing of a day's work: no ceiling is proposed from it.
    /// </summary>
    private static IEnumerable<Proposal> MemoryOf(RehearsalReport report, ResourcesPart resources)
    {
        if (report.PeakBytes > 0 && resources.Memory is { } ceiling && ceiling < report.PeakBytes * 5 / 4)
            yield return new(
                "resources.memory",
                null,
                $"Its tree used up to {Size.About(report.PeakBytes)} in this short time already, and the ceiling is "
                    + $"{Size.Write(ceiling)}: at work it would be ended soon. A higher one, or none, is for you to say."
            );
    }

    private static IEnumerable<Proposal> ProofOf(RehearsalReport report, Definition definition)
    {
        if (
            definition.Begin.Proof is not UpForProof
            || !report.StayedUp
            || report.Ports.FirstOrDefault(port => port.Protocol == "tcp") is not { } port
        )
            yield break;
        var host = port.Address switch
        {
            "0.0.0.0" => "127.0.0.1",
            "::" => "[::1]",
            var other when other.Contains(':', StringComparison.Ordinal) => $"[{other}]",
            var other => other,
        };
        var address = string.Create(CultureInfo.InvariantCulture, $"{host}:{port.Port}");
        yield return new(
            "begin.proof",
            $"tcp {address}",
            $"It accepts connections on TCP port {port.Port}: that shows that it serves, where staying up shows little.",
            new("begin", new MapNode([new("proof", new MapNode([new("tcp", new ScalarNode(address))]))]))
        );
    }

    private static IEnumerable<Proposal> WindDownOf(Definition definition, TimeSpan? stopTook)
    {
        if (definition.WindDown.Length != 1 || stopTook is not { } took || took <= definition.WindDown[0].Wait / 3)
            yield break;
        var wait = TimeSpan.FromSeconds(Math.Max(10, Math.Ceiling(took.TotalSeconds * 3)));
        yield return new(
            "wind-down",
            $"{definition.WindDown[0].What}, wait {Duration.Write(wait)}",
            string.Create(
                CultureInfo.InvariantCulture,
                $"It took {took.TotalSeconds:0.0} s to end: on a busy day it may take three times as long."
            ),
            new("wind-down", new ListNode([WindDownKeys.Steps.Write(definition.WindDown[0] with { Wait = wait })]))
        );
    }

    /// <summary>What sees no terminal may end, or keep what it prints to itself.</summary>
    private static IEnumerable<Proposal> TerminalOf(RehearsalReport report, ProgramPart program, TerminalSigns signs)
    {
        if (program.Terminal || program.Kind == ProgramKind.Toggles)
            yield break;
        if (signs.Asks is { } line)
        {
            yield return new(
                "program.terminal",
                "120x40",
                $"It asks for a terminal: '{Shown.Line(line)}'.",
                new("program", new MapNode([new("terminal", new ScalarNode("120x40"))]))
            );
            yield break;
        }

        var why =
            signs.Gathers
                ? "What it prints comes in whole blocks that end within a line: it sees no terminal, and gathers 4096 bytes and more "
                    + "before it writes them. Its latest lines come late, and are lost when it is killed."
            : signs.LinesAtEnd > 1
                ? $"It printed nothing while it was up, and {signs.LinesAtEnd} lines as it ended: it gathers what it prints where it sees no "
                    + "terminal. They come late, and are lost when it is killed."
            : null;
        if (why is null && !(report.StayedUp && signs is { WasSilent: true, LinesAtEnd: 0 } && IsSilentPython(program)))
            yield break;
        yield return IsPython(program)
            ? new(
                "program.environment.PYTHONUNBUFFERED",
                "1",
                why
                    ?? "It printed nothing. Python gathers what a script prints where it sees no terminal; if it prints at all, this shows "
                        + "it at once.",
                new(
                    "program",
                    new MapNode([new("environment", new MapNode([new("PYTHONUNBUFFERED", new ScalarNode("1"))]))])
                )
            )
            : new(
                "program.terminal",
                "true",
                $"{why} At a terminal most programs print line by line.",
                new("program", new MapNode([new("terminal", new ScalarNode("true"))]))
            );
    }

    private static IEnumerable<Proposal> WindowOf(ProgramPart program, TerminalSigns signs)
    {
        if (program is { Window: null, Kind: not ProgramKind.Toggles } && signs.AsksForDisplay is { } line)
            yield return new(
                "program.window",
                "1280x800",
                $"It asks for a display: '{Shown.Line(line)}'.",
                new("program", new MapNode([new("window", new ScalarNode("1280x800"))]))
            );
    }

    /// <summary>A dialog that nobody sees waits for ever.</summary>
    private static IEnumerable<Proposal> DialogOf(RehearsalReport report, Definition definition)
    {
        if (report.Dialogs is [var title, ..] && !definition.Watch.Any(watch => watch is QuestionWatch))
            yield return new(
                "watch",
                "asks-for: 2 min",
                $"It {Asked.InWords(title, AskedAt.Window)}. In the background nobody sees that: with this watch somebody is told.",
                new(
                    "watch",
                    new ListNode([
                        .. definition.Watch.Where(watch => !watch.Implied).Select(WatchKeys.Watches.Write),
                        new MapNode([new("asks-for", new ScalarNode("2 min"))]),
                    ])
                )
            );
    }

    private static bool IsPython(ProgramPart program) =>
        Path.GetFileName(program.With ?? program.Path).StartsWith("python", StringComparison.Ordinal);

    /// <summary>Nothing tells it to print at once.</summary>
    private static bool IsSilentPython(ProgramPart program) =>
        IsPython(program)
        && !program.Environment.ContainsKey("PYTHONUNBUFFERED")
        && !program
            .Arguments.TakeWhile(word => word.StartsWith('-'))
            .Any(word => word.Contains('u', StringComparison.Ordinal));

    private static bool Holds(string file, int pid) => DetachedMain.Read(file).Pid == pid;
}
