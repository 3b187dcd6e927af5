using System.CommandLine;
using CalmSentry.Cli.Files;
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
            Description = "A service, a definition file, or a file of the sentry's settings",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var flags = new DefinitionFlags(typed.Names("check") ? DefinitionKeys.All : []);
        var settings = new Option<bool>("--settings")
        {
            Description =
                "The file has the sentry's own settings (known by itself where all keys at its top are theirs)",
        };
        var json = Common.Json();
        var command = new Command(
            "check",
            "Find out what would go wrong, before anything is run or put in place: calm check NAME | FILE | [NAME] [flags] -- PROGRAM …"
        )
        {
            target,
            settings,
            json,
        };
        foreach (var flag in flags.All)
            command.Add(flag);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var file = FileOf(parsed.GetValue(target), parsed.GetValue(settings), program);
                if (file is not null && (parsed.GetValue(settings) || SettingsText.Is(file)))
                    return await CheckSettings(client, file, parsed.GetValue(json), cancellation).ConfigureAwait(false);
                var (path, body) = Target.Of(parsed, parsed.GetValue(target), flags, program, "check", file);
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

    /// <returns>The file that is named, if one is.</returns>
    private static Body? FileOf(string? word, bool asked, string[]? program)
    {
        if (asked && (word is null || program is { Length: > 0 }))
            throw new Failure(Exit.Usage, "--settings goes with a file.", "calm check --settings FILE");
        return word is not null && program is not { Length: > 0 } && (asked || Body.IsFile(word))
            ? FilesDirectory.Definition(word)
            : null;
    }

    private static async Task<int> CheckSettings(
        SentryClient client,
        Body file,
        bool json,
        CancellationToken cancellation
    )
    {
        var view = await client
            .Send(HttpMethod.Post, "settings/check", file.Content(), ApiJson.Default.SettingsCheckView, cancellation)
            .ConfigureAwait(false);
        if (json)
            Common.WriteJson(view, ApiJson.Plain.SettingsCheckView);
        else
        {
            foreach (var error in view.Errors)
                Console.WriteLine($"{file.File}: {error.Text}");
            foreach (var one in view.Missing)
            {
                var place = one.Line is null ? "" : $"line {one.Line}, column {one.Column}: ";
                Console.WriteLine($"{file.File}: {place}{one.Where}: {one.Seen}");
                Console.WriteLine($"    → {one.Mend}");
            }

            Console.WriteLine(view.Said);
        }

        return view.Clear ? Exit.True
            : view.Errors.Count > 0 ? Exit.Usage
            : Exit.NotTrue;
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
    /// <param name="read">The file, where it was read already.</param>
    /// <returns>The API path of a service, or a definition to send.</returns>
    public static (string Path, Body? Body) Of(
        ParseResult parsed,
        string? word,
        DefinitionFlags flags,
        string[]? program,
        string command,
        Body? read = null
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
        return Body.IsFile(word) ? ("", read ?? FilesDirectory.Definition(word)) : (SentryClient.PathOf(word), null);
    }
}
