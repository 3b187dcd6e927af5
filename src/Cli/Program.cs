using System.CommandLine;
using CalmSentry.Cli.Commands;
using CalmSentry.Cli.Help;
using CalmSentry.Cli.Wire;
using CalmSentry.Cli.Words;

namespace CalmSentry.Cli;

internal static class Program
{
    private static async Task<int> Main(string[] arguments)
    {
        Terminal.TakeOver();
        var (own, program) = Split(arguments);
        var root = Commands(new(own, program));
        HelpText.Use(root);
        if (own.Length == 0)
        {
            await root.Parse("--help").InvokeAsync().ConfigureAwait(false);
            return Exit.Usage;
        }

        var parsed = root.Parse(own, new ParserConfiguration { ResponseFileTokenReplacer = null });
        var wrong = parsed.Errors.Select(error => error.Message).Concat(UnknownFlags(parsed)).Distinct().ToList();
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
            Tell(failure);
            return failure.ExitCode;
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
    private static IEnumerable<string> UnknownFlags(ParseResult parsed) =>
        parsed
            .CommandResult.Children.OfType<System.CommandLine.Parsing.ArgumentResult>()
            .SelectMany(argument => argument.Tokens)
            .Select(token => token.Value)
            .Where(word => word is ['-', _, ..])
            .Select(word => $"'{string.Join(' ', Names(parsed.CommandResult))}' has no flag {word}; nothing was done.");

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
            AskCommands.Unwrap(),
            AskCommands.Start(),
            AskCommands.Stop(),
            AskCommands.Restart(),
            WhyCommands.Release(),
            DrillCommand.Make(),
            HostCommand.Make(),
            LookCommands.List(),
            LookCommands.Show(),
            WhyCommands.Why(),
            WhyCommands.Runs(),
            WhyCommands.Board(),
            LookCommands.Output(),
            LookCommands.Logbook(),
            AccountCommands.Make(),
            SecretCommands.Make(),
            OpenCommand.Make(),
        };

    private static IEnumerable<string> Names(System.CommandLine.Parsing.CommandResult result) =>
        result.Parent is System.CommandLine.Parsing.CommandResult above
            ? Names(above).Append(result.Command.Name)
            : ["calm"];

    public static void Tell(Failure failure)
    {
        Console.Error.WriteLine($"calm: {failure.Message.Replace("\n", "\n      ", StringComparison.Ordinal)}");
        if (failure.Next is { } next)
            Console.Error.WriteLine($"    → {next.Replace("\n", "\n    → ", StringComparison.Ordinal)}");
    }
}
