using System.CommandLine;
using System.Text.Json.Nodes;
using CalmSentry.Cli.Files;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm adjust NAME [flags] [--unset KEY]… [-- PROGRAM …]</c>, or <c>--from FILE</c>.</summary>
internal static class AdjustCommand
{
    public static Command Make(Typed typed)
    {
        var program = typed.Program;
        var name = Common.Name();
        var flags = new DefinitionFlags(typed.Names("adjust") ? DefinitionKeys.All : []);
        var unset = new Option<string[]>("--unset")
        {
            Description = "Take a key back to its default, such as resources.memory; may be given again",
        };
        var from = new Option<string?>("--from")
        {
            Description = "Replace the whole definition by this file (YAML); -: by what is piped in",
        };
        var edit = new Option<bool>("--edit")
        {
            Description = "Change the definition in your editor (VISUAL, EDITOR); mistakes are marked in their place",
        };
        var start = new Option<bool>("--start")
        {
            Description = "Start it then; one that runs goes on, and its answer says what a restart is needed for",
        };
        var dry = Common.Dry();
        var json = Common.Json();
        var command = new Command(
            "adjust",
            "Adjust a service: what is given replaces what was; watches, recovery and wind-down at once, the rest "
                + "from its next start on"
        )
        {
            name,
            from,
            edit,
            unset,
        };
        foreach (var flag in flags.All)
            command.Add(flag);
        command.Add(start);
        command.Add(dry);
        command.Add(json);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var service = parsed.GetValue(name)!;
                var more = flags.AnyGiven(parsed) || program is not null || parsed.GetValue(unset) is { Length: > 0 };
                if (parsed.GetValue(edit))
                    return more || parsed.GetValue(from) is not null
                        ? throw new Failure(
                            Exit.Usage,
                            "--edit changes the whole definition; --from, flags, --unset and a program do not go with it."
                        )
                        : await Edit(client, service, Adjust, cancellation).ConfigureAwait(false);
                return await Adjust(
                        parsed.GetValue(from) is { } file
                            ? WholeFrom(file, more)
                            : Changes(
                                flags.Definition(parsed, null, program),
                                parsed.GetValue(unset) ?? [],
                                program,
                                service
                            ),
                        madeFrom: null
                    )
                    .ConfigureAwait(false);

                async Task<int> Adjust(Body body, string? madeFrom)
                {
                    try
                    {
                        return await Put(body, madeFrom).ConfigureAwait(false);
                    }
                    catch (Failure failure)
                    {
                        throw body.Explain(failure);
                    }
                }

                async Task<int> Put(Body body, string? madeFrom)
                {
                    var path = $"{SentryClient.PathOf(service)}?{(body.File is null ? "" : "whole=true&")}";
                    if (!parsed.GetValue(dry) && !parsed.GetValue(json))
                        await AheadCommand
                            .ShowBefore(client, HttpMethod.Patch, path.TrimEnd('&', '?'), body, cancellation)
                            .ConfigureAwait(false);
                    using var content = body.Content();
                    var answer = await client
                        .Send(
                            HttpMethod.Patch,
                            path + (parsed.GetValue(dry) ? "dry=true" : ""),
                            content,
                            ApiJson.Default.Answer,
                            cancellation,
                            madeFrom
                        )
                        .ConfigureAwait(false);
                    var starts = parsed.GetValue(start) && !parsed.GetValue(dry);
                    if (parsed.GetValue(json) && !starts)
                    {
                        Common.WriteJson(answer, ApiJson.Plain.Answer);
                        return Exit.True;
                    }

                    if (parsed.GetValue(json))
                        return await Start(client, answer, json: true, cancellation).ConfigureAwait(false);

                    Console.WriteLine(answer.Said);
                    if (parsed.GetValue(dry))
                        AheadCommand.Write(answer.Moments);
                    FindingText.Write(
                        (answer.Findings ?? []).Where(finding => finding.Severity != Severity.Note),
                        Console.Out
                    );
                    return starts
                        ? await Start(client, answer, json: false, cancellation).ConfigureAwait(false)
                        : Exit.True;
                }
            }
        );
        return command;
    }

    private static Task<int> Start(SentryClient client, Answer adjusted, bool json, CancellationToken cancellation)
    {
        var name = adjusted.Service!.Name;
        return AskCommands.Ask(client, HttpMethod.Post, $"{SentryClient.PathOf(name)}/start", name, json, cancellation);
    }

    private static async Task<int> Edit(
        SentryClient client,
        string service,
        Func<Body, string?, Task<int>> adjust,
        CancellationToken cancellation
    )
    {
        using var file = await client
            .Stream($"{SentryClient.PathOf(service)}/definition", cancellation)
            .ConfigureAwait(false);
        var was = await file.Content.ReadAsStringAsync(cancellation).ConfigureAwait(false);
        return await Editing
            .Until(
                $"{service.Replace('/', '-')}.yaml",
                was,
                (text, path) => adjust(new Body(text, path), file.Headers.ETag?.Tag)
            )
            .ConfigureAwait(false);
    }

    private static Body WholeFrom(string file, bool more) =>
        more
            ? throw new Failure(
                Exit.Usage,
                "--from replaces the whole definition; flags, --unset and a program do not go with it."
            )
            : FilesDirectory.Definition(file);

    private static Body Changes(JsonObject changes, string[] unset, string[]? program, string service)
    {
        foreach (var key in unset)
            Empty(changes, key.Split('.'));
        // Whoever names another program means its arguments too, even if there are none.
        if (program is { Length: 1 })
            changes["program"]!["arguments"] = null;
        return changes.Count > 0
            ? Body.Of(changes)
            : throw new Failure(
                Exit.Usage,
                "What is to be adjusted?",
                $"calm adjust {CommandLine.Quoted(service)} --memory 512MiB, for instance; 'calm adjust --help' shows "
                    + $"all there is."
            );
    }

    private static Failure Both(string[] path) =>
        new(Exit.Usage, $"{string.Join('.', path)} is given and taken away at once; nothing was changed.");

    private static void Empty(JsonObject map, string[] path)
    {
        foreach (var key in path[..^1])
            map = map[key] switch
            {
                null => (JsonObject)(map[key] = new JsonObject()),
                JsonObject inner => inner,
                _ => throw Both(path),
            };
        if (map[path[^1]] is not null)
            throw Both(path);
        map[path[^1]] = null;
    }
}
