using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Commands;

/// <summary>Watches and steps of a wind-down as one word each.</summary>
internal static partial class WatchFlags
{
    public const string Watches =
        "http:URL[,status=200][,text=TEXT], tcp:HOST:PORT, 'command:PROGRAM ARGUMENT …', silent-for:10min, "
        + "file:PATH,fresh-for=15min, alive-within:30s, memory-above:400MiB, cpu-above:90%, open-files-above:N, "
        + "children-above:N, ceiling-within:2h, paused-for:30s; each with ,every=15s ,patience=3 and "
        + ",then=note|tell|restart|restart-by-force; levels also with ,for=5min";

    public const string Steps =
        "'TERM 10s', signal:TERM,to=tree, send:TEXT,to=tcp HOST:PORT (or unix /PATH, or input), close:input, "
        + "key:interrupt, http:URL[,method=POST][,body=TEXT], 'command:PROGRAM ARGUMENT …'; each with ,wait=10s";

    private static readonly FlagWord WatchForm = new(
        "--watch",
        Watches,
        "http|tcp|command|silent-for|file|alive-within|memory-above|cpu-above|open-files-above|children-above|ceiling-within|paused-for",
        "status|fresh-for|for|every|patience|then",
        text: "text"
    );

    private static readonly FlagWord StepForm = new(
        "--wind-down",
        Steps,
        "signal|send|close|key|http|command",
        "to|method|wait",
        text: "body"
    );

    public static JsonNode Watch(string word) => WatchForm.Read(word).Map;

    public static JsonNode Step(string word)
    {
        if (StepForm.TryRead(word) is var (kind, step))
        {
            if (kind == "send")
                step[kind] = Unescaped((string)step[kind]!);
            return step;
        }

        var words = word.Split(' ', 2, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (words.Length == 0 || words[0].Contains(':', StringComparison.Ordinal))
            throw StepForm.Refused(word);
        var signal = new JsonObject { ["signal"] = words[0] };
        if (words.Length > 1)
            signal["wait"] = words[1];
        return signal;
    }

    /// <summary><c>75=again</c> as a key with its value.</summary>
    public static KeyValuePair<string, JsonNode?> Code(string word)
    {
        var parts = word.Split('=', 2);
        return parts.Length == 2
            ? new(parts[0], parts[1])
            : throw new Failure(
                Exit.Usage,
                $"--code: found '{word}'; allowed: an exit code or signal with what follows, such as 75=again, "
                    + $"3=hold, SEGV=hold."
            );
    }

    private static string Unescaped(string text) =>
        EscapeForm()
            .Replace(
                text,
                escape =>
                    escape.Value[1] switch
                    {
                        'n' => "\n",
                        'r' => "\r",
                        't' => "\t",
                        _ => escape.Value[1..],
                    }
            );

    [GeneratedRegex(@"\\.")]
    private static partial Regex EscapeForm();
}
