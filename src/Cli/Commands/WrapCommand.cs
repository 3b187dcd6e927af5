using System.CommandLine;
using System.Text.Json.Nodes;
using CalmSentry.Cli.Wire;
using CalmSentry.Cli.Words;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]</c></summary>
internal static class WrapCommand
{
    /// <param name="program">What stood behind <c>--</c>, untouched; null when there was none.</param>
    public static Command Make(string[]? program)
    {
        var name = new Argument<string>("name") { Description = "Short name; one with spaces becomes the title, and a short name is made from it" };
        var title = new Option<string?>("--title") { Description = "One line for people" };
        var notes = new Option<string?>("--notes") { Description = "What it is for, what to know about it" };
        var directory = new Option<string?>("--directory") { Description = "Working directory (default: the program's own; for the host's programs the service's state directory)" };
        var environment = new Option<string[]>("--environment") { Description = "NAME=VALUE; may be given again for each variable" };
        var account = new Option<string?>("--account") { Description = "Account to run as (default: yours; root must be said)" };
        var at = new Option<string?>("--at") { Description = "When it begins: boot | request (default: request)" };
        var recover = new Option<string?>("--recover") { Description = "After which ends it is begun again: failure | any-end | never (default: failure)" };
        var pause = new Option<string?>("--pause") { Description = "Pause before the first try, such as 1s; each next one is twice as long, up to 1 min (default: 1 s)" };
        var holdEnds = new Option<string?>("--hold-ends") { Description = "Bad ends within 10 min that put it on hold; 0: never (default: 5)" };
        var windDown = new Option<string[]>("--wind-down") { Description = "A step of its clean stop, such as 'TERM 10s'; may be given again (default: TERM 10s)" };
        var start = new Option<bool>("--start") { Description = "Start it at once" };
        var json = Common.Json();
        var command = new Command("wrap", "Wrap a program as a service: calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]")
        {
            name, title, notes, directory, environment, account, at, recover, pause, holdEnds, windDown, start, json,
        };
        command.SetAction(async (parsed, cancellation) =>
        {
            if (program is not { Length: > 0 })
                throw new Failure(Exit.Usage, "Which program? It stands at the end, behind two dashes, just as you type it by hand.", "calm wrap NAME [flags] -- PROGRAM [ARGUMENT…]");
            var given = new Dictionary<string, string>();
            foreach (var pair in parsed.GetValue(environment) ?? [])
            {
                var equals = pair.IndexOf('=', StringComparison.Ordinal);
                if (equals <= 0) throw new Failure(Exit.Usage, $"--environment: found '{pair}'; allowed: NAME=VALUE.");
                given[pair[..equals]] = pair[(equals + 1)..];
            }

            var definition = Compact(new JsonObject
            {
                ["format"] = "calm-sentry/1",
                ["name"] = parsed.GetValue(name),
                ["title"] = parsed.GetValue(title),
                ["notes"] = parsed.GetValue(notes),
                ["program"] = Compact(new JsonObject
                {
                    ["path"] = Find(program[0]),
                    ["arguments"] = program.Length > 1 ? new JsonArray([.. program[1..].Select(argument => (JsonNode)argument)]) : null,
                    ["directory"] = parsed.GetValue(directory) is { } place ? Path.GetFullPath(place) : null,
                    ["environment"] = Compact(new JsonObject(given.Select(pair => KeyValuePair.Create(pair.Key, (JsonNode?)pair.Value)))),
                }),
                ["identity"] = Compact(new JsonObject { ["account"] = parsed.GetValue(account) }),
                ["begin"] = Compact(new JsonObject { ["at"] = parsed.GetValue(at) }),
                ["recover"] = Compact(new JsonObject
                {
                    ["after"] = parsed.GetValue(recover),
                    ["pause"] = Compact(new JsonObject { ["first"] = parsed.GetValue(pause) }),
                    ["hold"] = Compact(new JsonObject { ["ends"] = parsed.GetValue(holdEnds) }),
                }),
                ["wind-down"] = parsed.GetValue(windDown) is { Length: > 0 } steps ? new JsonArray([.. steps.Select(Step)]) : null,
            })!;
            using var client = Common.Client(parsed);
            using var body = new StringContent(definition.ToJsonString(), System.Text.Encoding.UTF8, "application/json");
            var answer = await client.Send(HttpMethod.Post, "services", body, ApiJson.Default.Answer, cancellation).ConfigureAwait(false);
            var made = answer.Service!.Name;
            if (parsed.GetValue(start))
            {
                if (!parsed.GetValue(json)) Console.WriteLine(answer.Said);
                return await AskCommands.Ask(client, HttpMethod.Post, $"{SentryClient.PathOf(made)}/start", made, parsed.GetValue(json), cancellation).ConfigureAwait(false);
            }

            if (parsed.GetValue(json))
            {
                Common.WriteJson(answer, ApiJson.Plain.Answer);
                return Exit.True;
            }

            Console.WriteLine(answer.Said);
            Console.WriteLine($"  command    {CommandLine.Of(answer.Service.Command)}");
            Console.WriteLine($"Start it with 'calm start {made}'; 'calm wrap --start …' does both.");
            return Exit.True;
        });
        return command;
    }

    /// <summary>Without what was not given, so that it keeps its default; null when nothing is left.</summary>
    private static JsonObject? Compact(JsonObject map)
    {
        foreach (var key in map.Where(entry => entry.Value is null).Select(entry => entry.Key).ToList()) map.Remove(key);
        return map.Count == 0 ? null : map;
    }

    private static JsonNode Step(string text)
    {
        var parts = text.Split(' ', 2, StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        var step = new JsonObject { ["signal"] = parts.Length > 0 ? parts[0] : "" };
        if (parts.Length > 1) step["wait"] = parts[1];
        return step;
    }

    /// <summary>The program as the caller's shell would find it: by path from here, else by PATH.</summary>
    private static string Find(string program)
    {
        if (program.Contains('/', StringComparison.Ordinal)) return Path.GetFullPath(program);
        foreach (var place in (Environment.GetEnvironmentVariable("PATH") ?? "").Split(':', StringSplitOptions.RemoveEmptyEntries))
        {
            var candidate = Path.Combine(Path.GetFullPath(place), program);
            if (File.Exists(candidate)) return candidate;
        }

        throw new Failure(Exit.NotTrue, $"There is no program '{program}' in any folder of your PATH.", $"Give its path; if it lies in this folder, write ./{program}.", "program-missing");
    }
}
