using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Commands;

/// <summary>Needs and proofs as one word each: a kind, a colon and what it is of, then options behind commas.</summary>
internal static partial class BeginFlags
{
    public const string NeedHelp = "What must be true before it is launched: network, network:eth0, service:NAME, tcp:HOST:PORT, path:DIR[,mounted][,writable], after-boot:30s; each with ,within=2min and ,then=tell|go-ahead|hold; a service also with ,if-lost=leave|restart|go-down. May be given again";

    public const string ProofHelp = "What shows that it serves: tcp:HOST:PORT, http:URL[,status=200][,text=TEXT], output:REGEX, file:PATH, command:PROGRAM, told, up-for:5s; with ,within=20s and ,if-not=try-again|tell (default: up-for:1s)";

    public static JsonNode Need(string word)
    {
        var (kind, value, options) = Split("--need", word, NeedOptions());
        var need = new JsonObject { [kind] = kind == "network" && value.Length == 0 ? "up" : value };
        foreach (var (key, text) in options) need[key] = text;
        return need;
    }

    public static JsonObject Proof(string word)
    {
        var (kind, value, options) = Split("--proof", word, ProofOptions());
        var proof = new JsonObject { [kind] = kind switch { "told" => "ready", "command" => new JsonArray(DefinitionFlags.Find(value)), _ => value } };
        foreach (var (key, text) in options) proof[key] = text;
        return proof;
    }

    private static (string Kind, string Value, IEnumerable<(string Key, string Text)> Options) Split(string flag, string word, Regex form)
    {
        // What the kind is of may hold commas and colons itself; only what looks like an option at the end is one.
        var parts = form.Match(word);
        if (!parts.Success) throw new Failure(Exit.Usage, $"{flag}: found '{word}'; allowed: {(flag == "--need" ? NeedHelp : ProofHelp)}.");
        return (parts.Groups["kind"].Value, parts.Groups["value"].Value, parts.Groups["option"].Captures.Select(option => option.Value.Split('=', 2)).Select(pair => (pair[0], pair.Length == 2 ? pair[1] : "true")));
    }

    [GeneratedRegex("^(?<kind>network|service|tcp|path|after-boot)(:(?<value>.*?))?(,(?<option>mounted|writable|(within|then|if-lost)=[^,]*))*$", RegexOptions.ExplicitCapture)]
    private static partial Regex NeedOptions();

    [GeneratedRegex("^(?<kind>tcp|http|output|file|command|told|up-for)(:(?<value>.*?))?(,(?<option>status=[^,]*|text=.*?|(within|if-not)=[^,]*))*$", RegexOptions.ExplicitCapture)]
    private static partial Regex ProofOptions();
}
