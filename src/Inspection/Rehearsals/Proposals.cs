using System.Globalization;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
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
        Outcome end
    )
    {
        var proposals = new List<ProposalView>();
        var over = new List<KeyValuePair<string, Node>>();
        var (program, resources) = (definition.Program, definition.Resources);
        if (report.Detached && program.Kind == ProgramKind.Stays)
        {
            proposals.Add(
                new(
                    "program.kind",
                    "detaches",
                    "The process that was launched ended well and left the program in the background."
                )
            );
            var entries = new List<KeyValuePair<string, Node>> { new("kind", new ScalarNode("detaches")) };
            if (
                followed > 0
                && report.Files.FirstOrDefault(file =>
                    file.EndsWith(".pid", StringComparison.Ordinal) && Holds(file, followed)
                )
                    is { } pidFile
            )
            {
                proposals.Add(new("program.pid-file", pidFile, "It writes the number of its real process there."));
                entries.Add(new("pid-file", new ScalarNode(pidFile)));
            }

            over.Add(new("program", new MapNode(entries)));
        }
        else if (!report.Detached && report.StayedUp && program.Kind == ProgramKind.Detaches)
        {
            proposals.Add(
                new(
                    "program.kind",
                    "stays",
                    "The process that was launched is the program: it did not put itself into the background."
                )
            );
            over.Add(
                new("program", new MapNode([new("kind", new ScalarNode("stays")), new("pid-file", new NullNode())]))
            );
        }
        else if (!report.StayedUp && end.IsGood && program.Kind == ProgramKind.Stays)
        {
            proposals.Add(
                new(
                    "program.kind",
                    null,
                    "It did its work and ended well. If it switches something on that a second command switches "
                        + "off, its kind is toggles."
                )
            );
        }

        // What a program uses in its first idle seconds says nothing of a day's work: no ceiling is proposed from it.
        if (report.PeakBytes > 0 && resources.Memory is { } ceiling && ceiling < report.PeakBytes * 5 / 4)
            proposals.Add(
                new(
                    "resources.memory",
                    null,
                    $"Its tree used up to {Size.About(report.PeakBytes)} in this short time already, and the ceiling is "
                        + $"{Size.Write(ceiling)}: at work it would be ended soon. A higher one, or none, is for you to say."
                )
            );

        if (
            definition.Begin.Proof is UpForProof
            && report.StayedUp
            && report.Ports.FirstOrDefault(port => port.Protocol == "tcp") is { } port
        )
        {
            var host = port.Address switch
            {
                "0.0.0.0" => "127.0.0.1",
                "::" => "[::1]",
                var other when other.Contains(':', StringComparison.Ordinal) => $"[{other}]",
                var other => other,
            };
            var address = string.Create(CultureInfo.InvariantCulture, $"{host}:{port.Port}");
            proposals.Add(
                new(
                    "begin.proof",
                    $"tcp {address}",
                    $"It accepts connections on TCP port {port.Port}: that shows that it serves, where staying up "
                        + $"shows little."
                )
            );
            over.Add(new("begin", new MapNode([new("proof", new MapNode([new("tcp", new ScalarNode(address))]))])));
        }

        if (definition.WindDown.Length == 1 && stopTook is { } took && took > definition.WindDown[0].Wait / 3)
        {
            var wait = TimeSpan.FromSeconds(Math.Max(10, Math.Ceiling(took.TotalSeconds * 3)));
            proposals.Add(
                new(
                    "wind-down",
                    $"{definition.WindDown[0].What}, wait {Duration.Write(wait)}",
                    string.Create(
                        CultureInfo.InvariantCulture,
                        $"It took {took.TotalSeconds:0.0} s to end: on a busy day it may take three times as long."
                    )
                )
            );
            over.Add(
                new("wind-down", new ListNode([WindDownKeys.Steps.Write(definition.WindDown[0] with { Wait = wait })]))
            );
        }

        var adoption = new MapNode(over);
        using var json = JsonDocument.Parse(JsonNodes.Write(adoption));
        var whole = DefinitionTrees.Overlay(
            DefinitionTrees.Trimmed(DefinitionWriter.Write(definition), definition),
            adoption
        );
        return report with
        {
            Proposals = proposals,
            Adoption = over.Count == 0 ? null : json.RootElement.Clone(),
            File = YamlNodes.Write(whole),
        };
    }

    private static bool Holds(string file, int pid) => DetachedMain.Read(file).Pid == pid;
}
