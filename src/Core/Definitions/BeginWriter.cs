using System.Globalization;
using static CalmSentry.Core.Definitions.DefinitionWriter;

namespace CalmSentry.Core.Definitions;

/// <summary>The part <c>begin</c> of a definition, written back.</summary>
internal static class BeginWriter
{
    public static MapNode Write(BeginPart begin) =>
        Map(
            ("at", Text(Of(begin.At))),
            ("at-latest", begin.At == BeginAt.BootLate ? Time(begin.AtLatest) : null),
            ("needs", begin.Needs.IsEmpty ? null : new ListNode([.. begin.Needs.Select(Need)])),
            ("proof", Proof(begin.Proof))
        );

    private static MapNode Need(Need need) =>
        Map(
            ("network", Maybe(need is NetworkNeed network ? network.Interface ?? "up" : null)),
            ("service", Maybe((need as ServiceNeed)?.Service)),
            ("tcp", Maybe((need as TcpNeed)?.Address)),
            ("path", Maybe((need as PathNeed)?.Path)),
            ("after-boot", need is AfterBootNeed after ? Time(after.Length) : null),
            ("mounted", need is PathNeed { Mounted: true } ? Text("true") : null),
            ("writable", need is PathNeed { Writable: true } ? Text("true") : null),
            (
                "if-lost",
                need is ServiceNeed other
                    ? Text(
                        other.IfLost switch
                        {
                            IfLost.Restart => "restart",
                            IfLost.GoDown => "go-down",
                            _ => "leave",
                        }
                    )
                    : null
            ),
            ("within", Time(need.Within)),
            (
                "then",
                Text(
                    need.Then switch
                    {
                        NeedThen.GoAhead => "go-ahead",
                        NeedThen.Hold => "hold",
                        _ => "tell",
                    }
                )
            )
        );

    private static MapNode Proof(Proof proof)
    {
        if (proof is UpForProof up)
            return Map(("up-for", Time(up.Length)));
        var http = proof as HttpProof;
        return Map(
            ("tcp", Maybe((proof as TcpProof)?.Address)),
            ("http", Maybe(http?.Url)),
            ("status", Maybe(http?.Status?.ToString(CultureInfo.InvariantCulture))),
            ("text", Maybe(http?.Text)),
            ("output", Maybe((proof as OutputProof)?.Expression)),
            ("file", Maybe((proof as FileProof)?.Path)),
            ("command", proof is CommandProof command ? new ListNode([.. command.Command.Select(Text)]) : null),
            ("told", proof is ToldProof ? Text("ready") : null),
            ("within", Time(proof.Within)),
            ("if-not", Text(proof.OnlyTell ? "tell" : "try-again"))
        );
    }
}
