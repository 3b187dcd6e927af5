using System.CommandLine;
using System.Net.Http.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Guided;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli.Commands;

/// <summary>
/// <c>start</c>, <c>stop</c>, <c>restart</c>, <c>unwrap</c>: ask, show what goes on, and end with what came of it.
/// </summary>
internal static class AskCommands
{
    /// <summary>After this long it is shown what a command is waiting for.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMilliseconds(1500);

    public static Command Start() => Of("start", "Start services, wait, and show the evidence that they run");

    public static Command Stop() => Of("stop", "Stop services cleanly and wait until nothing of them is left");

    public static Command Restart() => Of("restart", "Stop services cleanly and start them again");

    public static Command Unwrap()
    {
        var output = new Option<bool>("--with-output") { Description = "Remove its output too" };
        var alone = new Option<bool>("--alone") { Description = "Although others name it as a need" };
        var yes = new Option<bool>("--yes", "-y") { Description = "Without asking; needed where nobody can be asked" };
        return Each(
            "unwrap",
            "Stop services cleanly and remove them; their output stays unless asked",
            [output, alone, yes],
            parsed =>
                (parsed.GetValue(output) ? "output=remove&" : "") + (parsed.GetValue(alone) ? "dependents=leave" : ""),
            async (client, services, parsed, json, cancellation) =>
            {
                if (parsed.GetValue(yes))
                    return;
                // A name that nobody has is told before anything is asked.
                foreach (var service in services)
                    _ = await client
                        .Get(SentryClient.PathOf(service), ApiJson.Default.ServiceDetail, cancellation)
                        .ConfigureAwait(false);
                AskToUnwrap(services, parsed.GetValue(output), json);
            }
        );
    }

    /// <exception cref="Failure">It is not wanted, or nobody can be asked.</exception>
    private static void AskToUnwrap(IReadOnlyList<string> services, bool withOutput, bool json)
    {
        var what =
            $"{string.Join(", ", services)}: stopped cleanly, then definition and "
            + $"{(withOutput ? "output are" : "record are")} removed{(withOutput ? "" : ", its output stays")}";
        if (json || Console.IsInputRedirected)
            throw new Failure(
                Exit.Usage,
                $"To unwrap needs --yes where nobody can be asked; nothing was done. ({what}.)",
                $"calm unwrap {string.Join(' ', services.Select(CommandLine.Quoted))} --yes"
            );
        if (!Asking.YesNo($"Unwrap {what}?", otherwise: false))
            throw new Failure(Exit.NotTrue, "Nothing was removed.");
    }

    public static Command Reload() =>
        Each("reload", "Tell services to read their settings anew, and look whether they still serve");

    public static Command Watches()
    {
        var pause = new Option<string?>("--pause")
        {
            Description = "For so long nothing is done about what they find, such as 30min; it ends by itself",
            HelpName = "LENGTH",
        };
        var resume = new Option<bool>("--resume") { Description = "They count again now" };
        return Each(
            "watches",
            "Pause what the watches of services lead to, for a time",
            [pause, resume],
            parsed =>
                (parsed.GetValue(pause), parsed.GetValue(resume)) switch
                {
                    ({ } length, false) => $"for={Uri.EscapeDataString(length)}",
                    (null, true) => "for=0",
                    _ => throw new Failure(Exit.Usage, "Either --pause LENGTH or --resume; nothing was done."),
                }
        );
    }

    public static Command Quiet()
    {
        var length = new Option<string?>("--for")
        {
            Description = "So long no alert of them is raised, such as 30min; it ends by itself",
            HelpName = "LENGTH",
        };
        var reason = new Option<string?>("--reason") { Description = "Why, for whoever looks", HelpName = "TEXT" };
        var noRestarts = new Option<bool>("--no-restarts") { Description = "Nothing is restarted either until then" };
        var end = new Option<bool>("--end") { Description = "They are quiet no longer; what was withheld is listed" };
        return Each(
            "quiet",
            "Raise no alert of services for a time, as while somebody works on them",
            [length, reason, noRestarts, end],
            parsed =>
                (parsed.GetValue(length), parsed.GetValue(end)) switch
                {
                    ({ } given, false) => $"for={Uri.EscapeDataString(given)}"
                        + (parsed.GetValue(noRestarts) ? "&no-restarts=true" : "")
                        + (parsed.GetValue(reason) is { } why ? $"&reason={Uri.EscapeDataString(why)}" : ""),
                    (null, true) => "for=0",
                    _ => throw new Failure(Exit.Usage, "Either --for LENGTH or --end; nothing was done."),
                },
            mayBeAll: true
        );
    }

    /// <summary>A command that asks the same of each service, one after the other.</summary>
    /// <param name="more">Further flags.</param>
    /// <param name="query">What they make of the call's address.</param>
    /// <param name="sure">
    /// Makes sure that it is wanted, before anything is done: given by what removes the services.
    /// </param>
    public static Command Each(
        string what,
        string description,
        IReadOnlyList<Option>? more = null,
        Func<ParseResult, string>? query = null,
        Func<SentryClient, IReadOnlyList<string>, ParseResult, bool, CancellationToken, Task>? sure = null,
        bool mayBeAll = false
    )
    {
        var dry = Common.Dry();
        var json = Common.Json();
        var command = new Command(what, description);
        var selection = new Selection(command, mayBeAll);
        foreach (var option in (more ?? []).Concat([dry, json]))
            command.Add(option);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var asked = query?.Invoke(parsed) is { } said ? $"?{said}&" : "?";
                var services = await selection.Of(client, parsed, cancellation).ConfigureAwait(false);
                if (services.Count == 0)
                    Console.WriteLine($"There is no service to {what}: none of {selection.InWords(parsed)}.");
                else if (sure is not null && !parsed.GetValue(dry))
                    await sure(client, services, parsed, parsed.GetValue(json), cancellation).ConfigureAwait(false);
                var exit = Exit.True;
                foreach (var service in services)
                {
                    try
                    {
                        exit = Math.Max(
                            exit,
                            await Ask(
                                    client,
                                    sure is null ? HttpMethod.Post : HttpMethod.Delete,
                                    SentryClient.PathOf(service)
                                        + (sure is null ? $"/{what}" : "")
                                        + $"{asked}dry={(parsed.GetValue(dry) ? "true" : "false")}",
                                    service,
                                    parsed.GetValue(json),
                                    cancellation
                                )
                                .ConfigureAwait(false)
                        );
                    }
                    catch (Failure failure) when (services.Count > 1)
                    {
                        failure.Tell();
                        exit = Math.Max(exit, failure.ExitCode);
                    }
                }

                return exit;
            }
        );
        return command;
    }

    /// <summary>The flags of a start, stop or restart, and what they ask for.</summary>
    private sealed class Flags(string what)
    {
        private readonly Option<string[]> accept = new("--accept")
        {
            Description = "Overrule a blocking finding by its code, this once",
        };
        private readonly Option<bool> withoutNeeds = new("--without-needs")
        {
            Description = "Pass over what it needs, this once",
        };
        private readonly Option<bool> withDependents = new("--with-dependents")
        {
            Description = $"{(what == "stop" ? "Stop" : "Restart")} services that need it too, in order",
        };
        private readonly Option<bool> alone = new("--alone")
        {
            Description = "Leave services that need it as they are",
        };
        private readonly Option<bool> endCopies = new("--end-copies")
        {
            Description = "First end copies that run outside the sentry, cleanly",
        };
        private readonly Option<bool> wait = Common.Wait();
        private readonly Option<bool> thisRun = new("--this-run") { Description = "Of a job: its rhythm goes on" };

        /// <summary>Each is proven before the next is touched.</summary>
        public Option<bool> OneByOne { get; } =
            new("--one-by-one")
            {
                Description =
                    "Of several: each is to be proven before the next is touched; ends at the first that is not",
            };

        public Option<bool> Pending { get; } =
            new("--pending") { Description = "All services that a change waits for: those with a restart pending" };

        public Option<bool> Dry { get; } = Common.Dry();

        public Option<bool> Json { get; } = Common.Json();

        public IEnumerable<Option> All =>
            what switch
            {
                "start" => [Dry, Json, accept, endCopies, withoutNeeds],
                "stop" => [Dry, Json, thisRun, withDependents, alone],
                _ => [Dry, Json, Pending, OneByOne, accept, withDependents, alone, wait],
            };

        /// <summary>Whether several are asked for as one act, by one call.</summary>
        public bool AreOneAct(ParseResult parsed) =>
            what switch
            {
                "restart" => !parsed.GetValue(OneByOne),
                "stop" => !parsed.GetValue(thisRun),
                _ => !parsed.GetValue(Dry) && !parsed.GetValue(endCopies),
            };

        public string QueryOf(ParseResult parsed)
        {
            var query =
                what != "stop" ? $"?accept={Uri.EscapeDataString(string.Join(',', parsed.GetValue(accept) ?? []))}"
                : parsed.GetValue(thisRun) ? "?this-run=true"
                : "?";
            if (what == "start")
                query +=
                    (parsed.GetValue(endCopies) ? "&end-copies=true" : "")
                    + (parsed.GetValue(withoutNeeds) ? "&without-needs=true" : "");
            else if (parsed.GetValue(withDependents))
                query += "&dependents=stop";
            else if (parsed.GetValue(alone))
                query += "&dependents=leave";
            return query
                + (what == "restart" && parsed.GetValue(wait) ? "&wait=true" : "")
                + (parsed.GetValue(Dry) ? "&dry=true" : "");
        }
    }

    private static Command Of(string what, string description)
    {
        var flags = new Flags(what);
        var command = new Command(what, description);
        var selection = new Selection(command, mayBeAll: true);
        foreach (var option in flags.All)
            command.Add(option);
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (pending, dry, json) = (
                    what == "restart" && parsed.GetValue(flags.Pending),
                    parsed.GetValue(flags.Dry),
                    parsed.GetValue(flags.Json)
                );
                var services = pending
                    ? await Pending(client, selection, parsed, cancellation).ConfigureAwait(false)
                    : await selection.Of(client, parsed, cancellation).ConfigureAwait(false);
                if (services.Count == 0)
                {
                    if (!json)
                        Console.WriteLine(
                            pending
                                ? "No restart is pending: every live run was launched by its definition of today."
                                : $"There is no service to {what}: none of {selection.InWords(parsed)}."
                        );
                    return Exit.True;
                }

                var query = flags.QueryOf(parsed);
                var several = services.Count > 1;
                var exit = await (
                    several && flags.AreOneAct(parsed)
                        ? AskWithDependents(client, new(what, services, query), mayAsk: !dry, json, cancellation)
                    : several && what == "restart" && !dry ? OneByOne(client, services, query, json, cancellation)
                    : EachOf(client, services, what, query, dry, json, cancellation)
                ).ConfigureAwait(false);
                return exit == Exit.True && !dry && !client.IsOnRecord ? Exit.NotOnRecord : exit;
            }
        );
        return command;
    }

    /// <summary>
    /// Each by a call of its own: what would be done is said one after the other, what is done, all at once. What cannot be asked of
    /// one of many is told, and the others go on.
    /// </summary>
    /// <returns>The worst exit.</returns>
    private static async Task<int> EachOf(
        SentryClient client,
        IReadOnlyList<string> services,
        string what,
        string query,
        bool dry,
        bool json,
        CancellationToken cancellation
    )
    {
        var asked = services.Select(service =>
            AskWithDependents(client, new(what, [service], query), mayAsk: !dry, json, cancellation)
        );
        var (exit, not) = (Exit.True, new List<string>());
        foreach (var (one, service) in (dry ? asked : asked.ToList()).Zip(services))
        {
            var came = Exit.True;
            try
            {
                came = await one.ConfigureAwait(false);
            }
            catch (Failure failure) when (services.Count > 1)
            {
                failure.Tell();
                came = failure.ExitCode;
            }

            exit = Math.Max(exit, came);
            if (came != Exit.True)
                not.Add(service);
        }

        if (services.Count > 1 && !dry && !json)
            Sum(services.Count, not, what == "start" ? "running" : "stopped");
        return exit;
    }

    private static void Sum(int all, List<string> not, string what) =>
        (not.Count == 0 ? Console.Out : Console.Error).WriteLine(
            not.Count == 0
                ? $"All {all} services are {what}."
                : $"{all - not.Count} of {all} services are {what}; not: {string.Join(", ", not)}."
        );

    /// <summary>Each is to be proven before the next is touched; at the first that is not, the others stay as they are.</summary>
    private static async Task<int> OneByOne(
        SentryClient client,
        IReadOnlyList<string> services,
        string query,
        bool json,
        CancellationToken cancellation
    )
    {
        // What is in the way of any of them is told before the first is touched.
        var all = new Call("restart", services, query + "&dry=true");
        using var content = all.Content();
        _ = await client
            .Send(HttpMethod.Post, all.Path, content, ApiJson.Default.Answer, cancellation)
            .ConfigureAwait(false);
        var alone = query.Contains("&dependents=", StringComparison.Ordinal) ? "" : "&dependents=leave";
        for (var i = 0; i < services.Count; i++)
        {
            var exit = Exit.True;
            try
            {
                var path = new Call("restart", [services[i]], query + alone).Path;
                exit = await Ask(client, HttpMethod.Post, path, services[i], json, cancellation).ConfigureAwait(false);
            }
            catch (Failure failure)
            {
                failure.Tell();
                exit = failure.ExitCode;
            }

            if (exit == Exit.True)
                continue;
            var left = services.Skip(i + 1).ToList();
            if (!json)
                Console.Error.WriteLine(
                    $"{i} of {services.Count} services were restarted; {services[i]} is not running"
                        + (left.Count == 0 ? "." : $", and left as they were: {string.Join(", ", left)}.")
                );
            return exit;
        }

        if (!json)
            Console.WriteLine(
                $"All {services.Count} services are running again, each proven before the next was touched."
            );
        return Exit.True;
    }

    /// <summary>A start, stop or restart of one service, or of several as one act.</summary>
    private sealed record Call(string What, IReadOnlyList<string> Services, string Query)
    {
        public string Path =>
            (Services is [var one] ? $"{SentryClient.PathOf(one)}/{What}" : $"together/{What}") + Query;

        public JsonContent? Content() =>
            Services.Count == 1 ? null : JsonContent.Create(new(Services), ApiJson.Default.TogetherOrder);
    }

    private static async Task<IReadOnlyList<string>> Pending(
        SentryClient client,
        Selection selection,
        ParseResult parsed,
        CancellationToken cancellation
    )
    {
        if (selection.IsGiven(parsed))
            throw new Failure(Exit.Usage, "Either names, --label or --all, or --pending; nothing was done.");
        var views = await client
            .Get("services", ApiJson.Default.IReadOnlyListServiceView, cancellation)
            .ConfigureAwait(false);
        return [.. views.Where(view => view.Pending is not null).Select(view => view.Name)];
    }

    /// <summary>
    /// Of a service that others need, whether those are to be stopped first is asked where somebody is there to answer.
    /// </summary>
    private static async Task<int> AskWithDependents(
        SentryClient client,
        Call call,
        bool mayAsk,
        bool json,
        CancellationToken cancellation
    )
    {
        var what = call.What;
        try
        {
            return await Ask(client, call, json, cancellation).ConfigureAwait(false);
        }
        catch (Failure failure)
            when (failure.Code == ProblemCode.NeededByOthers && mayAsk && !Console.IsInputRedirected && !json)
        {
            Console.WriteLine(failure.Message);
            if (!Asking.YesNo($"{(what == "stop" ? "Stop" : "Restart")} them too, in order?", otherwise: false))
            {
                Console.WriteLine($"Nothing was stopped. '--alone' leaves them as they are.");
                return Exit.NotTrue;
            }
        }

        return await Ask(client, call with { Query = call.Query + "&dependents=stop" }, json, cancellation)
            .ConfigureAwait(false);
    }

    private static async Task<int> Ask(SentryClient client, Call call, bool json, CancellationToken cancellation)
    {
        using var content = call.Content();
        return await Ask(client, HttpMethod.Post, call.Path, call.Services, content, json, cancellation)
            .ConfigureAwait(false);
    }

    public static Task<int> Ask(
        SentryClient client,
        HttpMethod method,
        string path,
        string service,
        bool json,
        CancellationToken cancellation
    ) => Ask(client, method, path, [service], null, json, cancellation);

    private static async Task<int> Ask(
        SentryClient client,
        HttpMethod method,
        string path,
        IReadOnlyList<string> services,
        HttpContent? content,
        bool json,
        CancellationToken cancellation
    )
    {
        using var done = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        var progress = json ? Task.CompletedTask : Progress(client, services, done.Token);
        Answer answer;
        try
        {
            answer = await client
                .Send(method, path, content, ApiJson.Default.Answer, cancellation)
                .ConfigureAwait(false);
        }
        finally
        {
            await done.CancelAsync().ConfigureAwait(false);
            await progress.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }

        if (json)
            Common.WriteJson(answer, ApiJson.Plain.Answer);
        else
            Show(answer);
        return answer.CameTrue ? Exit.True : Exit.NotTrue;
    }

    public static void Show(Answer answer)
    {
        foreach (var one in answer.Each ?? [])
            Show(one);
        (answer.CameTrue ? Console.Out : Console.Error).WriteLine(answer.Said);
        if (answer.Evidence is not { } evidence)
            return;
        if (evidence.Pid is { } pid)
            Console.WriteLine(
                $"  pid        {pid}, as {evidence.Account}, up "
                    + $"{Lengths.Of(TimeSpan.FromMilliseconds(evidence.UpMs ?? 0))}"
            );
        if (evidence.CommandLine is { Count: > 0 } line)
            Console.WriteLine($"  command    {CommandLine.Folded(line)}");
        if (evidence.Proof is { Seen: { } seen } proof)
            Console.WriteLine(
                $"  proof      {seen}, {Lengths.Exactly(proof.TookMs ?? 0)} after its launch"
                    + (proof.UsualMs is { } usual ? $" (usually {Lengths.Exactly(usual)})" : "")
            );
        if (evidence.Output.Count == 0)
            Console.WriteLine("  output     nothing printed so far");
        else if (evidence.Output.Any(printed => printed.Contains("\u001b[", StringComparison.Ordinal)))
        {
            // Codes shown as text would hide what it says.
            var name = answer.Service is { } service ? $"calm terminal {service.Name}" : "calm terminal";
            Console.WriteLine(
                $"  output     it draws on its screen; where that is a terminal for people, '{name}' shows it"
            );
            return;
        }

        for (var i = 0; i < evidence.Output.Count; i++)
            Console.WriteLine($"  {(i == 0 ? "output" : ""), -10} {evidence.Output[i]}");
    }

    private static async Task Progress(
        SentryClient client,
        IReadOnlyList<string> services,
        CancellationToken cancellation
    )
    {
        await Task.Delay(Patience, cancellation).ConfigureAwait(false);
        var last = new Dictionary<string, string>(StringComparer.Ordinal);
        // One may be called by its title: its own events say which it is.
        await client
            .Watch(
                view =>
                {
                    if (services.Count == 1 || services.Contains(view.Name))
                        Say(view, last);
                },
                services is [var one] ? one : null,
                cancellation
            )
            .ConfigureAwait(false);
    }

    private static void Say(ServiceView view, Dictionary<string, string> last)
    {
        if (
            view.Why != last.GetValueOrDefault(view.Name)
            && view.State is ServiceState.Starting or ServiceState.Stopping or ServiceState.Waiting
        )
            Console.Error.WriteLine($"… {view.Name}: {view.Why}");
        last[view.Name] = view.Why;
    }
}
