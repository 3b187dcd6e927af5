using System.Text.Json.Nodes;

namespace CalmSentry.Cli.Commands;

/// <summary>Needs and proofs as one word each.</summary>
internal static class BeginFlags
{
    public const string Needs =
        "network, network:eth0, service:NAME, tcp:HOST:PORT, path:DIR[,mounted][,writable], after-boot:30s; each "
        + "with ,within=2min and ,then=tell|go-ahead|hold; a service also with ,if-lost=leave|restart|go-down";

    public const string Proofs =
        "tcp:HOST:PORT, http:URL[,status=200][,text=TEXT], output:REGEX, file:PATH, 'command:PROGRAM ARGUMENT …', "
        + "told, up-for:5s; with ,within=20s and ,if-not=try-again|tell";

    private static readonly FlagWord NeedForm = new(
        "--need",
        Needs,
        "network|service|tcp|path|after-boot",
        "within|then|if-lost",
        marks: "mounted|writable"
    );

    private static readonly FlagWord ProofForm = new(
        "--proof",
        Proofs,
        "tcp|http|output|file|command|told|up-for",
        "status|within|if-not",
        text: "text"
    );

    public static JsonNode Need(string word)
    {
        var (kind, need) = NeedForm.Read(word);
        if (kind == "network" && (string?)need[kind] == "")
            need[kind] = "up";
        return need;
    }

    public static JsonObject Proof(string word)
    {
        var (kind, proof) = ProofForm.Read(word);
        if (kind == "told")
            proof[kind] = "ready";
        return proof;
    }
}
