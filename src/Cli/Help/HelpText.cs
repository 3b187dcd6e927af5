using System.CommandLine;
using System.CommandLine.Help;
using System.CommandLine.Invocation;
using System.Text;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli.Help;

/// <summary>
/// Help as people read it: commands in the order of work, a line each; of a command its usage, examples, and options
/// grouped as the definition is. No line is longer than 80 columns.
/// </summary>
internal sealed class HelpText : SynchronousCommandLineAction
{
    private const int Width = 80,
        Left = 13,
        OptionLeft = 22;

    /// <summary>Replaces the library's own help, for every command.</summary>
    public static void Use(RootCommand root)
    {
        var help = root.Options.OfType<HelpOption>().Single();
        (help.Action, help.Description) = (new HelpText(), "This page; behind a command, that command's");
        root.Options.OfType<VersionOption>().Single().Description = "Which version this client is";
    }

    /// <summary>Whoever asks how a command goes has not to know it already: what is missing does not matter.</summary>
    public override bool ClearsParseErrors => true;

    public override int Invoke(ParseResult parseResult)
    {
        var command = parseResult.CommandResult.Command;
        Console.Out.Write(command is RootCommand root ? OfAll(root) : Of(command, Path(parseResult.CommandResult)));
        return 0;
    }

    public static string OfAll(RootCommand root)
    {
        var text = new StringBuilder("Calm Sentry runs ordinary programs as background services.\n\n");
        text.Append("Usage: calm COMMAND [OPTIONS]\n");
        foreach (var stage in Pages.All.GroupBy(page => page.Stage))
        {
            text.Append($"\n{stage.Key}\n");
            foreach (var page in stage)
                text.Append($"  {page.Name, -Left}{page.Summary}\n");
        }

        text.Append("\nEverywhere\n");
        Options(text, root.Options);
        text.Append(
            """

            Examples
              calm check -- python3 /srv/skerry/ledger.py
              calm wrap fare-ledger --at boot --start -- python3 /srv/skerry/ledger.py
              calm why fare-ledger

            'calm COMMAND --help' shows a command's examples and options.

            """
        );
        return text.ToString();
    }

    private static string Of(Command command, string path)
    {
        var page = Pages.Of(path["calm ".Length..]);
        var text = new StringBuilder();
        Wrapped(text, $"{page?.Summary ?? command.Description}.", 0);
        var usage = page?.Usage ?? string.Join(' ', command.Arguments.Select(ArgumentOf));
        text.Append($"\nUsage: {path} {usage}".TrimEnd()).Append('\n');
        if (page is not null)
            text.Append("\nExamples\n").AppendJoin("", page.Examples.Select(example => $"  {example}\n"));
        if (page?.More is { } more)
            text.Append('\n').Append(more).Append('\n');
        if (command.Subcommands.Count > 0)
        {
            text.Append("\nCommands\n");
            foreach (var inner in command.Subcommands)
                Item(text, inner.Name, inner.Description ?? "", Left);
        }

        if (command.Arguments.Any(argument => argument.Description is not null))
        {
            text.Append("\nArguments\n");
            foreach (var argument in command.Arguments)
                Item(text, argument.Name.ToUpperInvariant(), argument.Description ?? "", Left);
        }

        // What has a few flags that are called as some of the definition's are has its own.
        const int few = 10;
        var groups = Groups();
        if (command.Options.Count(option => groups.ContainsKey(option.Name)) <= few)
            groups.Clear();
        foreach (
            var group in command
                .Options.GroupBy(option => groups.GetValueOrDefault(option.Name, "Options"))
                .OrderBy(group => Order(group.Key))
        )
        {
            text.Append($"\n{group.Key}\n");
            Options(text, group);
        }

        return text.ToString();
    }

    private static void Options(StringBuilder text, IEnumerable<Option> options)
    {
        foreach (var option in options.Where(option => !option.Hidden))
            Item(text, $"{option.Name}{ValueOf(option)}", option.Description ?? "", OptionLeft);
    }

    private static string ArgumentOf(Argument argument) =>
        argument.Arity.MaximumNumberOfValues > 1
            ? $"{argument.Name.ToUpperInvariant()}…"
            : argument.Name.ToUpperInvariant();

    private static string ValueOf(Option option) =>
        option.ValueType == typeof(bool) || option is HelpOption or VersionOption ? "" : $" {ShortOf(option.HelpName)}";

    /// <summary>What an option takes, where that is short; long forms stand in its description.</summary>
    private static string ShortOf(string? form) => form is { Length: > 0 and <= 24 } ? form : "VALUE";

    /// <summary>The part of a definition an option sets; all others are the command's own.</summary>
    private static Dictionary<string, string> Groups() =>
        DefinitionKeys
            .Flat(DefinitionKeys.All)
            .Where(placed => placed.Key.Flag is not null)
            .ToDictionary(
                placed => $"--{placed.Key.Flag}",
                placed => placed.Path.Contains('.') ? $"Definition: {placed.Path.Split('.')[0]}" : "Definition"
            );

    private static int Order(string group) =>
        group switch
        {
            "Options" => -2,
            "Definition" => -1,
            _ => DefinitionKeys.All.ToList().FindIndex(key => group == $"Definition: {key.Name}"),
        };

    private static void Item(StringBuilder text, string name, string about, int left)
    {
        text.Append($"  {name}");
        if (name.Length > left - 4)
            text.Append('\n').Append(' ', left);
        else
            text.Append(' ', left - 2 - name.Length);
        Wrapped(text, about, left);
    }

    /// <summary>Words wrapped to the width; the first line begins where the text stands.</summary>
    private static void Wrapped(StringBuilder text, string words, int left)
    {
        var at = left;
        foreach (var word in words.Split(' ', StringSplitOptions.RemoveEmptyEntries))
        {
            if (at > left && at + 1 + word.Length > Width)
            {
                text.Append('\n').Append(' ', left);
                at = left;
            }

            text.Append(at > left ? " " : "").Append(word);
            at += word.Length + (at > left ? 1 : 0);
        }

        text.Append('\n');
    }

    private static string Path(System.CommandLine.Parsing.CommandResult result) =>
        result.Parent is System.CommandLine.Parsing.CommandResult above
            ? $"{Path(above)} {result.Command.Name}"
            : "calm";
}
