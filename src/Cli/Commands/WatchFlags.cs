using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Commands;

/// <summary>Watches and steps of a wind-down as one word each: a kind, a colon and what it is of, then options behind commas.</summary>
internal static partial class WatchFlags
{
    public const string WatchHelp = "What is looked at while it runs: http:URL[,status=200][,text=TEXT], tcp:HOST:PORT, command:PROGRAM, silent-for:10min, file:PATH,fresh-for=15min, alive-within:30s, memory-above:400MiB, cpu-above:90%, open-files-above:N, children-above:N, ceiling-within:2h, paused-for:30s; each with ,every=15s ,patience=3 and ,then=note|tell|restart|restart-by-force; levels also with ,for=5min. May be given again";

    public const string StepHelp = "A step of its clean stop: 'TERM 10s', signal:TERM,to=tree, send:TEXT,to=tcp HOST:PORT (or unix /PATH, or input), close:input, key:interrupt, http:URL[,method=POST][,body=TEXT], command:PROGRAM; each with ,wait=10s. May be given again (default: TERM 10s)";

    public static JsonNode Watch(string word)
    {
        var parts = WatchForm().Match(word);
        if (!parts.Success) throw new Failure(Exit.Usage, $"--watch: found '{word}'; allowed: {WatchHelp}.");
        var kind = parts.Groups["kind"].Value;
        return Options(parts, new JsonObject { [kind] = Value(kind, parts.Groups["value"].Value) });
    }

    public static JsonNode Step(string word)
    {
        var parts = StepForm().Match(word);
        if (parts.Success)
        {
            var kind = parts.Groups["kind"].Value;
            return Options(parts, new JsonObject { [kind] = Value(kind, kind == "send" ? Unescaped(parts.Groups["value"].Value) : parts.Groups["value"].Value) });
        }

        var words = word.Split(' ', 2, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (words.Length == 0 || words[0].Contains(':', StringComparison.Ordinal)) throw new Failure(Exit.Usage, $"--wind-down: found '{word}'; allowed: {StepHelp}.");
        var step = new JsonObject { ["signal"] = words[0] };
        if (words.Length > 1) step["wait"] = words[1];
        return step;
    }

    /// <summary><c>75=again</c> as a key with its value.</summary>
    public static KeyValuePair<string, JsonNode?> Code(string word)
    {
        var parts = word.Split('=', 2);
        return parts.Length == 2 ? new(parts[0], parts[1]) : throw new Failure(Exit.Usage, $"--code: found '{word}'; allowed: an exit code or signal with what follows, such as 75=again, 3=hold, SEGV=hold.");
    }

    private static JsonNode Value(string kind, string text) => kind == "command" ? new JsonArray(DefinitionFlags.Find(text)) : text;

    private static JsonObject Options(Match parts, JsonObject of)
    {
        foreach (var option in parts.Groups["option"].Captures.Select(capture => capture.Value.Split('=', 2))) of[option[0]] = option[1];
        return of;
    }

    private static string Unescaped(string text) =>
        EscapeForm().Replace(text, escape => escape.Value[1] switch { 'n' => "\n", 'r' => "\r", 't' => "\t", _ => escape.Value[1..] });

    [GeneratedRegex("^(?<kind>http|tcp|command|silent-for|file|alive-within|memory-above|cpu-above|open-files-above|children-above|ceiling-within|paused-for):(?<value>.*?)(,(?<option>text=.*?|(status|fresh-for|for|every|patience|then)=[^,]*))*$", RegexOptions.ExplicitCapture)]
    private static partial Regex WatchForm();

    [GeneratedRegex("^(?<kind>signal|send|close|key|http|command):(?<value>.*?)(,(?<option>body=.*?|(to|method|wait)=[^,]*))*$", RegexOptions.ExplicitCapture | RegexOptions.Singleline)]
    private static partial Regex StepForm();

    [GeneratedRegex(@"\\.")]
    private static partial Regex EscapeForm();
}
