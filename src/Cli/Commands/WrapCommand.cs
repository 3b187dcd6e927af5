using System.CommandLine;
using CalmSentry.Cli.Files;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// <c>calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]</c>, <c>calm wrap --from FILE</c>, or guided: <c>calm wrap</c>.
/// </summary>
internal static class WrapCommand
{
    public static Command Make(Typed typed)
    {
        var program = typed.Program;
        var name = new Argument<string?>("name")
        {
            Description = "Short name; one with spaces becomes the title, and a short name is made from it",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var flags = new DefinitionFlags(typed.Names("wrap") ? DefinitionKeys.All : []);
        var from = new Option<string?>("--from")
        {
            Description = "Take the definition from this file (YAML); -: from what is piped in",
        };
        var like = new Option<string?>("--like")
        {
            Description = "Take over everything of this service that is not said otherwise",
        };
        var basis = new Option<string?>("--base")
        {
            Description = "Make it from this base, a file with blanks; what is said beside goes over it",
            HelpName = "FILE",
        };
        var fill = new Option<string[]>("--fill")
        {
            Description = "What a blank of the base is, such as port=7412; may be given again",
            HelpName = "BLANK=VALUE",
        };
        var permit = new Option<bool>("--permit") { Description = "Permit its account to run services, on the way" };
        var start = new Option<bool>("--start") { Description = "Start it at once" };
        var dry = Common.Dry();
        var json = Common.Json();
        var command = new Command(
            "wrap",
            "Wrap a program as a service: calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]; without anything it asks"
        )
        {
            name,
            from,
            like,
            basis,
            fill,
        };
        foreach (var flag in flags.All)
            command.Add(flag);
        foreach (var flag in new Option[] { permit, start, dry, json })
            command.Add(flag);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (file, other, called) = (parsed.GetValue(from), parsed.GetValue(like), parsed.GetValue(name));
                if (file is null && program is null && called is null && !flags.AnyGiven(parsed))
                {
                    if (Console.IsInputRedirected)
                        throw new Failure(
                            Exit.Usage,
                            "Without a terminal nothing can be asked.",
                            "calm wrap NAME [flags] -- PROGRAM [ARGUMENT…], or calm wrap --from FILE"
                        );
                    return await new GuidedWrap(client, other).Run(cancellation).ConfigureAwait(false);
                }

                Demand(
                    file,
                    other,
                    called,
                    program,
                    flags.AnyGiven(parsed),
                    parsed.GetValue(basis),
                    parsed.GetValue(fill)
                );
                if (parsed.GetValue(dry) && parsed.GetValue(permit))
                    throw new Failure(
                        Exit.Usage,
                        "--dry permits nobody; nothing was done.",
                        "Leave one of --dry and --permit out."
                    );
                var body =
                    file is not null ? FilesDirectory.Definition(file)
                    : parsed.GetValue(basis) is { } made
                        ? new("", null)
                        {
                            Files = FilesDirectory.FromBase(
                                flags.Definition(parsed, called, program),
                                made,
                                parsed.GetValue(fill) ?? []
                            ),
                        }
                    : Body.Of(flags.Definition(parsed, called, program));
                if (parsed.GetValue(dry))
                    return await WouldWrap(client, body, other, parsed.GetValue(json), cancellation)
                        .ConfigureAwait(false);
                if (!parsed.GetValue(json))
                    await AheadCommand
                        .ShowBefore(client, HttpMethod.Post, "services" + LikeOf(other), body, cancellation)
                        .ConfigureAwait(false);
                var answer = await Send(client, body, other, parsed.GetValue(permit), cancellation)
                    .ConfigureAwait(false);
                return await Came(client, answer, parsed.GetValue(start), parsed.GetValue(json), cancellation)
                    .ConfigureAwait(false);
            }
        );
        return command;
    }

    /// <exception cref="Failure">What is given does not go together.</exception>
    private static void Demand(
        string? file,
        string? other,
        string? called,
        string[]? program,
        bool anyFlag,
        string? basis,
        string[]? fills
    )
    {
        if (basis is null ? fills is { Length: > 0 } : file is not null || other is not null)
            throw new Failure(
                Exit.Usage,
                basis is null ? "--fill goes with --base." : "Either --base, or --from, or --like.",
                "calm wrap board-2 --base base.yaml --fill port=7412"
            );
        if (file is not null && (program is not null || called is not null || anyFlag))
            throw new Failure(
                Exit.Usage,
                "--from takes the whole definition from the file; flags, a name and a program do not " + "go with it.",
                $"Edit {file}, or wrap it and then use calm adjust."
            );
        if (file is null && called is null)
            throw new Failure(Exit.Usage, "Under which name?", "calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]");
        if (file is null && other is null && basis is null && program is not { Length: > 0 })
            throw new Failure(
                Exit.Usage,
                "Which program? It stands at the end, behind two dashes, just as you type it by hand.",
                "calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]"
            );
    }

    private static async Task<int> Came(
        SentryClient client,
        Answer answer,
        bool start,
        bool json,
        CancellationToken cancellation
    )
    {
        var made = answer.Service!.Name;
        if (start)
        {
            // What follows says how it runs.
            if (!json)
                Say(
                    answer with
                    {
                        Said =
                            $"Wrapped '{answer.Service.Title}' as {made}, to run as {answer.Service.Account}; it is started.",
                    }
                );
            return await AskCommands
                .Ask(client, HttpMethod.Post, $"{SentryClient.PathOf(made)}/start", made, json, cancellation)
                .ConfigureAwait(false);
        }

        if (json)
        {
            Common.WriteJson(answer, ApiJson.Plain.Answer);
            return Exit.True;
        }

        Say(answer);
        Console.WriteLine(
            answer.Service.State == ServiceState.Resting
                ? $"'calm start {made}' runs it now, too; 'calm ahead {made}' shows what comes."
                : $"Start it with 'calm start {made}'; 'calm wrap --start …' does both."
        );
        return Exit.True;
    }

    private static string LikeOf(string? like) => like is null ? "" : $"?like={Uri.EscapeDataString(like)}";

    /// <summary>
    /// Sends a definition to be wrapped; when all that is wanting is a permit for its account, that is asked for on a
    /// terminal.
    /// </summary>
    public static async Task<Answer> Send(
        SentryClient client,
        Body body,
        string? like,
        bool permit,
        CancellationToken cancellation
    )
    {
        var query = LikeOf(like);
        if (permit || !Console.IsInputRedirected)
            await PermitOnTheWay(client, body, query, permit, cancellation).ConfigureAwait(false);
        try
        {
            using var content = body.Content();
            return await client
                .Send(HttpMethod.Post, "services" + query, content, ApiJson.Default.Answer, cancellation)
                .ConfigureAwait(false);
        }
        catch (Failure failure)
        {
            throw body.Explain(failure);
        }
    }

    private static async Task<int> WouldWrap(
        SentryClient client,
        Body body,
        string? like,
        bool json,
        CancellationToken cancellation
    )
    {
        try
        {
            using var content = body.Content();
            var answer = await client
                .Send(
                    HttpMethod.Post,
                    $"services?dry=true{(like is null ? "" : $"&like={Uri.EscapeDataString(like)}")}",
                    content,
                    ApiJson.Default.Answer,
                    cancellation
                )
                .ConfigureAwait(false);
            if (json)
            {
                Common.WriteJson(answer, ApiJson.Plain.Answer);
                return Exit.True;
            }

            Console.WriteLine(answer.Said);
            AheadCommand.Write(answer.Moments);
            FindingText.Write(answer.Findings ?? [], Console.Out);
            return Exit.True;
        }
        catch (Failure failure)
        {
            throw body.Explain(failure);
        }
    }

    private static async Task PermitOnTheWay(
        SentryClient client,
        Body body,
        string query,
        bool permit,
        CancellationToken cancellation
    )
    {
        using var content = body.Content();
        var check = await client
            .Send(HttpMethod.Post, "check" + query, content, ApiJson.Default.CheckView, cancellation)
            .ConfigureAwait(false);
        if (
            check.Findings.All(finding => finding.Code != FindingCode.AccountNotPermitted)
            || check.Definition?.GetProperty("identity").GetProperty("account").GetString() is not { } account
        )
            return;
        if (
            !permit
            && !Asking.YesNo(
                $"The account {account} is not permitted to run services yet. Permit it?",
                otherwise: false
            )
        )
            return;
        var answer = await client
            .Send(
                HttpMethod.Post,
                $"{AccountCommands.PathOf(account)}/permit",
                null,
                ApiJson.Default.Answer,
                cancellation
            )
            .ConfigureAwait(false);
        await Console.Error.WriteLineAsync(answer.Said).ConfigureAwait(false);
    }

    public static void Say(Answer answer)
    {
        Console.WriteLine(answer.Said);
        Console.WriteLine($"  command    {CommandLine.Folded(answer.Service!.Command)}");
        FindingText.Write(answer.Findings ?? [], Console.Out);
    }
}
