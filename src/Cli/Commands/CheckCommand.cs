using System.CommandLine;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// <c>calm check NAME | FILE</c>, or with a command line as <c>wrap</c> takes it: what would go wrong.
/// </summary>
internal static class CheckCommand
{
    public static Command Make(Typed typed)
    {
        var program = typed.Program;
        var target = new Argument<string?>("name-or-file")
        {
            Description = "A service, or a definition file",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var flags = new DefinitionFlags(typed.Names("check") ? DefinitionKeys.All : []);
        var json = Common.Json();
        var command = new Command(
            "check",
            "Find out what would go wrong, before anything is run: calm check NAME | FILE | [NAME] [flags] -- PROGRAM …"
        )
        {
            target,
            json,
        };
        foreach (var flag in flags.All)
            command.Add(flag);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (path, body) = Target.Of(parsed, parsed.GetValue(target), flags, program, "check");
                var view = await client
                    .Send(
                        body is null ? HttpMethod.Get : HttpMethod.Post,
                        body is null ? path + "/check" : "check",
                        body?.Content(),
                        ApiJson.Default.CheckView,
                        cancellation
                    )
                    .ConfigureAwait(false);
                if (parsed.GetValue(json))
                    Common.WriteJson(view, ApiJson.Plain.CheckView);
                else
                    Write(view, body?.File);
                return view.Clear ? Exit.True
                    : view.Errors.Count > 0 ? Exit.Usage
                    : Exit.NotTrue;
            }
        );
        return command;
    }

    private static void Write(CheckView view, string? file)
    {
        foreach (var error in view.Errors.Select(mistake => mistake.Text))
            Console.WriteLine(file is null ? error : $"{file}: {error}");
        FindingText.Write(view.Findings, Console.Out);
        if (view.Interpreters is { Count: > 0 } interpreters)
        {
            Console.WriteLine("interpreters on this machine, the first to be chosen first (--with sets another):");
            foreach (var one in interpreters)
                Console.WriteLine(
                    $"  {(one.Chosen ? "→" : " ")} {one.Path}  {one.Version ?? "(says no version)"}; {one.Why}"
                );
        }

        if (view.Command is { } command)
            Console.WriteLine($"would run: {CommandLine.Folded(command)}");
        Console.WriteLine(view.Said);
    }
}

/// <summary>What a command is about: a registered service, a definition file, or a program with flags.</summary>
internal static class Target
{
    /// <returns>The API path of a service, or a definition to send.</returns>
    public static (string Path, Body? Body) Of(
        ParseResult parsed,
        string? word,
        DefinitionFlags flags,
        string[]? program,
        string command
    )
    {
        if (program is { Length: > 0 })
        {
            if (word is not null && Body.IsFile(word))
                throw new Failure(
                    Exit.Usage,
                    $"'{word}' is a definition file, and it names its program itself.",
                    $"calm {command} {word}, without --."
                );
            return (
                "",
                Body.Of(flags.Definition(parsed, word ?? Path.GetFileNameWithoutExtension(program[0]), program))
            );
        }

        if (word is null)
            throw new Failure(
                Exit.Usage,
                "What of?",
                $"calm {command} NAME, calm {command} FILE.yaml, or calm {command} [flags] -- PROGRAM …"
            );
        if (flags.AnyGiven(parsed))
            throw new Failure(
                Exit.Usage,
                "Flags go with a program behind --; a service or a file has its own definition.",
                $"calm adjust changes a service, an editor a file."
            );
        return Body.IsFile(word) ? ("", Body.FromFile(word)) : (SentryClient.PathOf(word), null);
    }
}
