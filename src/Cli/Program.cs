using System.CommandLine;
using System.CommandLine.Parsing;
using CalmSentry.Cli.Commands;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Help;
using CalmSentry.Cli.Wire;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli;

internal static class Program
{
    private static async Task<int> Main(string[] arguments)
    {
        Terminal.TakeOver();
        var came = await Run(arguments).ConfigureAwait(false);
        if (Terminal.Lost is not { } why)
            return came;
        new Failure(
            Exit.NotTrue,
            $"What came of it could not be written: {why}.",
            came == Exit.True ? "What was asked came true; 'calm list' shows where things stand." : null
        ).Tell();
        return came == Exit.True ? Exit.NotTrue : came;
    }

    private static async Task<int> Run(string[] arguments)
    {
        var (own, program) = Split(arguments);
        var root = Commands(new(own, program));
        HelpText.Use(root);
        if (own.Length == 0)
        {
            await root.Parse("--help").InvokeAsync().ConfigureAwait(false);
            return Exit.Usage;
        }

        var parsed = root.Parse(own, new ParserConfiguration { ResponseFileTokenReplacer = null });
        // A shell that asks for completions hands on a line that is not finished.
        var isComplete = !own[0].StartsWith('[');
        var unknown = isComplete ? Unknown(parsed).Distinct().ToList() : [];
        // What is not known is told in words of ours; what it makes of the rest is told only if there is nothing else.
        var wrong = unknown.Count > 0 ? unknown : [.. parsed.Errors.Select(InWords).Distinct()];
        if (wrong.Count > 0)
        {
            foreach (var message in wrong)
                await Console.Error.WriteLineAsync($"calm: {message}").ConfigureAwait(false);
            foreach (var (was, now) in own.Select(word => (word, DefinitionFlags.NowCalled(word.Split('=')[0]))))
            {
                if (now is not null)
                    await Console.Error.WriteLineAsync($"      {was} is called {now} now.").ConfigureAwait(false);
            }

            var path = string.Join(' ', Names(parsed.CommandResult));
            await Console.Error.WriteLineAsync($"'{path} --help' shows what is allowed.").ConfigureAwait(false);
            return Exit.Usage;
        }

        try
        {
            return await parsed
                .InvokeAsync(new InvocationConfiguration { EnableDefaultExceptionHandler = false })
                .ConfigureAwait(false);
        }
        catch (Failure failure)
        {
            failure.Tell();
            return failure.ExitCode;
        }
        catch (HttpIOException)
        {
            var away = SentryClient.WentAway(SentryClient.ProgramsGoOn);
            away.Tell();
            return away.ExitCode;
        }
        catch (OperationCanceledException)
        {
            await Console
                .Error.WriteLineAsync(
                    "calm: no longer waiting; what was asked goes on. 'calm list' shows where it stands."
                )
                .ConfigureAwait(false);
            return Exit.NotTrue;
        }
    }

    /// <summary>
    /// What begins with a dash and is no flag of the command would be taken for a name, and the command carried out on
    /// the others. Nothing has a name that begins so.
    /// </summary>
    private static IEnumerable<string> Unknown(ParseResult parsed)
    {
        var command = parsed.CommandResult.Command;
        var path = string.Join(' ', Names(parsed.CommandResult));
        var words = parsed
            .CommandResult.Children.OfType<ArgumentResult>()
            .SelectMany(argument => argument.Tokens)
            .Select(token => token.Value)
            .Where(word => word is ['-', _, ..])
            .Concat(parsed.UnmatchedTokens);
        foreach (var word in words)
        {
            if (word is ['-', _, ..])
            {
                var flags = command.Options.Append(Common.Root).SelectMany(flag => flag.Aliases.Append(flag.Name));
                yield return $"'{path}' has no flag {word}; nothing was done.{Near(word.Split('=')[0], flags)}";
            }
            else if (command.Subcommands.Count > 0)
            {
                var meant = command is RootCommand ? OftenMeant(word) : null;
                yield return $"'{path}' has no command {word}."
                    + (meant is null ? Near(word, command.Subcommands.Select(one => one.Name)) : $" It is {meant}");
                yield break; // what follows it was meant for it
            }
            else
                yield return $"'{path}' takes no '{word}' there; nothing was done.";
        }
    }

    /// <summary>What is no value of its kind is told by what is allowed, and not by the kind's name.</summary>
    private static string InWords(ParseError error) =>
        error.SymbolResult switch
        {
            OptionResult { Tokens: [.., var given] } option
                when option.Option.ValueType is var type
                    && (type == typeof(int) || type == typeof(int?) || type == typeof(long) || type == typeof(long?))
                    && !long.TryParse(given.Value, System.Globalization.CultureInfo.InvariantCulture, out _) =>
                $"{option.Option.Name}: found '{given.Value}'; allowed: a whole number.",
            OptionResult { Tokens: [] } option => $"{option.Option.Name} needs a value.",
            OptionResult { Tokens: { Count: > 1 } given, Option.Arity.MaximumNumberOfValues: 1 } option =>
                $"{option.Option.Name} takes one value, and was given {given.Count}.",
            ArgumentResult { Tokens: [], Parent: OptionResult option } => $"{option.Option.Name} needs a value.",
            ArgumentResult { Tokens: [], Parent: CommandResult command } argument =>
                $"'{string.Join(' ', Names(command))}' needs {argument.Argument.Name.ToUpperInvariant()}.",
            CommandResult { Command.Subcommands: { Count: > 0 } inner } command =>
                $"'{string.Join(' ', Names(command))}' needs one of: {string.Join(", ", inner.Select(one => one.Name))}.",
            _ => error.Message,
        };

    /// <summary>What people type who do not know yet what it is called here.</summary>
    private static string? OftenMeant(string word) =>
        word.ToLowerInvariant() switch
        {
            "status" or "ps" or "ls" => "'calm list' for all services, 'calm show NAME' for one.",
            "log" or "logs" or "tail" =>
                "'calm output NAME' for what a program prints, 'calm logbook' for what happened.",
            "remove" or "delete" or "rm" or "uninstall" => "'calm unwrap NAME'.",
            "add" or "create" or "install" or "new" => "'calm wrap NAME -- PROGRAM'.",
            "edit" or "set" or "change" or "update" =>
                "'calm adjust NAME' for settings, 'calm swap NAME' for new files.",
            "kill" => "'calm stop NAME'.",
            "run" => "'calm rehearse -- PROGRAM' for a trial, 'calm start NAME' for a service.",
            "help" => "'calm --help', or 'calm COMMAND --help'.",
            "version" => "'calm --version'.",
            _ => null,
        };

    private static string Near(string word, IEnumerable<string> known) =>
        Spelling.Nearest(word, known) is { } near ? $" Did you mean {near}?" : "";

    /// <summary>What stands behind the first "--" is the program's own command line and is never parsed.</summary>
    public static (string[] Own, string[]? Program) Split(string[] arguments) =>
        Array.IndexOf(arguments, "--") is var at and >= 0
            ? (arguments[..at], arguments[(at + 1)..])
            : (arguments, null);

    /// <summary>All commands there are.</summary>
    public static RootCommand Commands(Typed typed) =>
        new RootCommand("Calm Sentry: keeps ordinary programs running as background services")
        {
            Common.Root,
            CheckCommand.Make(typed),
            RehearseCommand.Make(typed),
            WrapCommand.Make(typed),
            AdjustCommand.Make(typed),
            HistoryCommands.History(),
            HistoryCommands.Revert(),
            FilesCommands.Export(),
            FilesCommands.Compare(),
            FilesCommands.Settle(),
            RenameCommand.Make(),
            SwapCommand.Make(),
            AskCommands.Unwrap(),
            AskCommands.Start(),
            AskCommands.Stop(),
            AskCommands.Restart(),
            AskCommands.Reload(),
            AskCommands.Watches(),
            WhyCommands.Release(),
            DrillCommand.Make(),
            AheadCommand.Make(),
            AskCommands.Quiet(),
            TellCommands.Tell(),
            TellCommands.Acknowledge(),
            TellCommands.Report(),
            HostCommand.Make(),
            LookCommands.List(),
            LookCommands.Show(),
            WhyCommands.Why(),
            WhyCommands.Runs(),
            WhyCommands.Board(),
            OutputCommand.Make(),
            TerminalCommand.Make(),
            WindowCommand.Make(),
            LogbookCommand.Make(),
            AccountCommands.Make(),
            SecretCommands.Make(),
            OpenCommand.Make(),
        };

    private static IEnumerable<string> Names(System.CommandLine.Parsing.CommandResult result) =>
        result.Parent is System.CommandLine.Parsing.CommandResult above
            ? Names(above).Append(result.Command.Name)
            : ["calm"];
}
