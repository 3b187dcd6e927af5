using System.Text.Json.Nodes;
using System.Text.RegularExpressions;
using CalmSentry.Cli.Wire;
using CalmSentry.Cli.Words;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// A map of a definition as one word of a command line: a kind, a colon and what it is of, then options behind commas.
/// </summary>
internal sealed class FlagWord
{
    private readonly string flag,
        forms;
    private readonly Regex form;

    /// <param name="forms">What is allowed, for people.</param>
    /// <param name="kinds">What may stand first, parted by <c>|</c>.</param>
    /// <param name="options">Keys whose values hold no comma, parted by <c>|</c>.</param>
    /// <param name="text">The key whose value is free text.</param>
    /// <param name="marks">Keys that are true by standing there, parted by <c>|</c>.</param>
    public FlagWord(string flag, string forms, string kinds, string options, string? text = null, string? marks = null)
    {
        (this.flag, this.forms) = (flag, forms);
        // What the kind is of may hold commas and colons itself; only what looks like an option at the end is one.
        var option = $"({options})=[^,]*" + (text is null ? "" : $"|{text}=.*?") + (marks is null ? "" : $"|{marks}");
        form = new Regex(
            $"^(?<kind>{kinds})(:(?<value>.*?))?(,(?<option>{option}))*$",
            RegexOptions.ExplicitCapture | RegexOptions.Singleline
        );
    }

    /// <summary>
    /// The kind's own key first, with its value as it was given; null when the word has another form.
    /// </summary>
    public (string Kind, JsonObject Map)? TryRead(string word)
    {
        var parts = form.Match(word);
        if (!parts.Success)
            return null;
        var (kind, value) = (parts.Groups["kind"].Value, parts.Groups["value"].Value);
        var map = new JsonObject { [kind] = kind == "command" ? Command(value) : value };
        foreach (var option in parts.Groups["option"].Captures.Select(capture => capture.Value.Split('=', 2)))
            map[option[0]] = option.Length == 2 ? option[1] : "true";
        return (kind, map);
    }

    public (string Kind, JsonObject Map) Read(string word) => TryRead(word) ?? throw Refused(word);

    public Failure Refused(string word) => new(Exit.Usage, $"{flag}: found '{word}'; allowed: {forms}.");

    private static JsonArray Command(string line) =>
        CommandLine.Words(line) is [var program, .. var arguments]
            ? DefinitionFlags.Texts([DefinitionFlags.Find(program), .. arguments])
            : [];
}
