using System.CommandLine;
using System.Diagnostics;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Host;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm host</c>: this machine and the sentry on it.</summary>
internal static class HostCommand
{
    public static Command Make() =>
        new("host", "This machine: put the sentry in place so that it starts with it, take it away, wind all down")
        {
            Install(),
            Remove(),
            WindDown(),
            Status(),
            Sessions(),
        };

    private static Command Install()
    {
        var port = new Option<int?>("--port")
        {
            Description =
                $"TCP port of the console on loopback, written into the settings (default: {Places.ConsolePort})",
        };
        var noStart = new Option<bool>("--no-start")
        {
            Description = "Only put it in place; it starts with the machine",
        };
        var dry = Common.Dry();
        var command = new Command(
            "install",
            "Put programs, directories, settings, completions and man pages in place, have it start with the "
                + "machine, and start it; can be repeated"
        )
        {
            port,
            noStart,
            dry,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                DemandHost(parsed, "install");
                new Installation(Console.Out, parsed.GetValue(dry)).Install(
                    (RootCommand)parsed.RootCommandResult.Command,
                    parsed.GetValue(port),
                    start: !parsed.GetValue(noStart)
                );
                if (parsed.GetValue(noStart) || parsed.GetValue(dry))
                    return Exit.True;
                using var client = new SentryClient(new Places("/"));
                var sentry = await client.Get("sentry", ApiJson.Default.SentryView, cancellation).ConfigureAwait(false);
                Console.WriteLine(
                    $"\nCalm Sentry {sentry.Version} serves this machine, console {sentry.Console} ('calm open' "
                        + $"signs you in), and starts with it. The first service: calm wrap NAME -- PROGRAM"
                );
                return Exit.True;
            }
        );
        return command;
    }

    private static Command Remove()
    {
        var definitions = new Option<bool>("--with-definitions")
        {
            Description = "Remove definitions, history, secrets, settings and output too",
        };
        var dry = Common.Dry();
        var command = new Command(
            "remove",
            "Wind all services down and take back what install put in place; definitions, settings and output "
                + "stay unless asked; can be repeated"
        )
        {
            definitions,
            dry,
        };
        command.SetAction(parsed =>
        {
            DemandHost(parsed, "remove");
            new Installation(Console.Out, parsed.GetValue(dry)).Remove(parsed.GetValue(definitions));
            return Exit.True;
        });
        return command;
    }

    /// <summary>What is done to the whole machine is not done by somebody who works in a root of their own.</summary>
    private static void DemandHost(ParseResult parsed, string what)
    {
        if (Places.From(parsed.GetValue(Common.Root)).Root is var root and not "/")
            throw new Failure(
                Exit.Usage,
                $"The root {root} is set, and 'host {what}' is for the whole machine; nothing was changed.",
                parsed.GetValue(Common.Root) is null
                    ? $"Without it: env -u {Places.Variable} calm host {what}"
                    : $"Without --root: calm host {what}"
            );
    }

    private static Command WindDown()
    {
        var within = new Option<string?>("--within")
        {
            Description = "How long it may take before the rest is killed (default: as in the settings, else 60 s)",
        };
        var (dry, json) = (Common.Dry(), Common.Json());
        var command = new Command(
            "wind-down",
            "Before the machine goes down: stop all services in order; they start again with the "
                + "sentry's next start"
        )
        {
            within,
            dry,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var query =
                    (parsed.GetValue(dry) ? "?dry=true" : "?dry=false")
                    + (parsed.GetValue(within) is { } length ? $"&within={Uri.EscapeDataString(length)}" : "");
                var answer = await client
                    .Send(HttpMethod.Post, "wind-down" + query, null, ApiJson.Default.Answer, cancellation)
                    .ConfigureAwait(false);
                if (parsed.GetValue(json))
                    Common.WriteJson(answer, ApiJson.Plain.Answer);
                else
                    Console.WriteLine(answer.Said);
                return answer.CameTrue ? Exit.True : Exit.NotTrue;
            }
        );
        return command;
    }

    private static Command Sessions()
    {
        var end = new Option<string[]>("--end")
        {
            Description = "End these, by their names in the list; all ends every one",
            AllowMultipleArgumentsPerToken = true,
        };
        var (dry, json) = (Common.Dry(), Common.Json());
        var command = new Command("sessions", "Browsers that are signed in to the console, and the end of a session")
        {
            end,
            dry,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var sessions = await client
                    .Get("sessions", ApiJson.Default.IReadOnlyListSessionView, cancellation)
                    .ConfigureAwait(false);
                if (parsed.GetValue(end) is { Length: > 0 } ids)
                {
                    // One that is not there, and none is ended.
                    if (
                        ids is not ["all"]
                        && ids.Except(sessions.Select(session => session.Id)).ToList() is [var none, ..]
                    )
                        throw new Failure(
                            Exit.NoSuchThing,
                            $"There is no open session {none}; nothing was ended.",
                            "'calm host sessions' shows those there are."
                        );
                    foreach (var id in ids is ["all"] ? [.. sessions.Select(session => session.Id)] : ids)
                        Console.WriteLine(
                            (
                                await client
                                    .Send(
                                        HttpMethod.Delete,
                                        $"sessions/{Uri.EscapeDataString(id)}{Common.Query(parsed, dry)}",
                                        null,
                                        ApiJson.Default.Answer,
                                        cancellation
                                    )
                                    .ConfigureAwait(false)
                            ).Said
                        );
                    if (ids is ["all"] && sessions.Count == 0)
                        Console.WriteLine("No browser is signed in; nothing was ended.");
                    return Exit.True;
                }

                if (parsed.GetValue(dry))
                    throw new Failure(Exit.Usage, "--dry goes with --end: to list changes nothing.");
                if (parsed.GetValue(json))
                    Common.WriteJson(sessions, ApiJson.Plain.IReadOnlyListSessionView);
                else if (sessions.Count == 0)
                    Console.WriteLine("No browser is signed in. 'calm open' prints a link that signs one in.");
                else
                    Table.Write(
                        ["SESSION", "ACCOUNT", "OPENED", "LAST USED", "ENDS AT THE LATEST", "BROWSER"],
                        [
                            .. sessions.Select(one =>
                                new[]
                                {
                                    one.Id,
                                    one.Account,
                                    Lengths.At(one.Opened),
                                    Lengths.At(one.Used),
                                    Lengths.At(one.Until),
                                    one.Agent,
                                }
                            ),
                        ]
                    );
                return Exit.True;
            }
        );
        return command;
    }

    private static Command Status()
    {
        var wait = new Option<string?>("--wait") { Description = "Wait so many seconds for it to serve, such as 30s" };
        var json = Common.Json();
        var command = new Command("status", "Whether the sentry serves, is guarded, and starts with the machine")
        {
            wait,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (began, longest) = (
                    Stopwatch.GetTimestamp(),
                    TimeSpan.FromSeconds(parsed.GetValue(wait) is { } text ? Seconds(text) : 0)
                );
                while (true)
                {
                    try
                    {
                        var sentry = await client
                            .Get("sentry", ApiJson.Default.SentryView, cancellation)
                            .ConfigureAwait(false);
                        if (parsed.GetValue(json))
                            Common.WriteJson(sentry, ApiJson.Plain.SentryView);
                        else
                        {
                            Console.WriteLine(
                                $"Calm Sentry {sentry.Version} serves {sentry.Root} as pid {sentry.Pid}, "
                                    + $"{(sentry.Guard is { } guard ? $"guarded by pid {guard}" : "unguarded")}, "
                                    + "and "
                                    + (
                                        sentry.StartsWithMachine ? "starts with the machine."
                                        : sentry.Root == "/" ? "does not start with the machine: calm host install."
                                        : "has a root of its own: it is a trial, and does not start with the machine."
                                    )
                            );
                            foreach (var limit in sentry.Limits)
                                Console.WriteLine($"  {limit}");
                        }

                        return Exit.True;
                    }
                    catch (Failure failure)
                        when (failure.ExitCode == Exit.Unreachable && Stopwatch.GetElapsedTime(began) < longest)
                    {
                        await Task.Delay(50, cancellation).ConfigureAwait(false);
                    }
                }
            }
        );
        return command;
    }

    private static int Seconds(string text) =>
        int.TryParse(text.TrimEnd('s').Trim(), out var seconds)
            ? seconds
            : throw new Failure(Exit.Usage, $"--wait: found '{text}'; allowed: seconds, such as 30s.");
}
