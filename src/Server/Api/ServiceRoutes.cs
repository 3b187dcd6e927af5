using CalmSentry.Contract.Api;
using CalmSentry.Core.Availability;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;
using CalmSentry.Server.Checks;
using CalmSentry.Server.Definitions;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Order;
using CalmSentry.Server.Services;
using CalmSentry.Server.Why;
using Microsoft.AspNetCore.Mvc;

namespace CalmSentry.Server.Api;

/// <summary>
/// Wrap, see, begin, stop, unwrap. A call that asks for something answers when it has come true or failed to.
/// </summary>
internal static class ServiceRoutes
{
    public static void MapServices(this IEndpointRouteBuilder api)
    {
        api.MapGet(
                "/services",
                (Registry registry) => TypedResults.Json(registry.Views, ApiJson.Plain.IReadOnlyListServiceView)
            )
            .Produces<IReadOnlyList<ServiceView>>()
            .WithSummary("All services as they stand now")
            .May(Permission.Read);
        api.MapPost("/services", Wrap)
            .TakesDefinition()
            .Produces<Answer>(201)
            .Produces<Problem>(400, "application/problem+json")
            .Produces<Problem>(409, "application/problem+json")
            .Produces<Problem>(422, "application/problem+json")
            .WithSummary(
                "Wrap a program as a service; the body is a definition, laid over that of ?like=NAME. Registered "
                    + "is not running: start it next"
            )
            .May(Permission.Define);
        api.MapPatch("/services/{name}", Adjust)
            .TakesDefinition()
            .Produces<Answer>()
            .Produces<Problem>(404, "application/problem+json")
            .Produces<Problem>(409, "application/problem+json")
            .Produces<Problem>(422, "application/problem+json")
            .WithSummary(
                "Adjust a service: the keys sent replace its own, null takes one back to its default, ?whole=true "
                    + "replaces all. In effect from the next start on"
            )
            .May(Permission.Define);
        api.MapGet(
                "/services/{name}/definition",
                (string name, Registry registry) =>
                    registry.Find(name) is { } actor
                        ? TypedResults.Text(YamlNodes.Write(registry.Given(actor)), "application/yaml")
                        : Problems.NoSuchService(name, registry.Nearest(name))
            )
            .Produces<string>(200, "application/yaml")
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary("A service's definition as it was given, as a file (YAML)")
            .May(Permission.Read);
        api.MapGet(
                "/definition.schema.json",
                () => TypedResults.Text(DefinitionSchema.Write(), "application/schema+json")
            )
            .Produces<string>(200, "application/schema+json")
            .WithSummary("JSON Schema (2020-12) of a definition")
            .May(Permission.Read);
        api.MapGet(
                "/services/{name}",
                async (string name, Registry registry, House house) =>
                    await Recorded(name, registry, house).ConfigureAwait(false) is { } actor
                        ? TypedResults.Json(ServiceViews.Detail(actor, house, registry), ApiJson.Plain.ServiceDetail)
                        : Problems.NoSuchService(name, registry.Nearest(name))
            )
            .Produces<ServiceDetail>()
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary("One service with its whole definition and latest runs; by short name or title")
            .May(Permission.Read);
        api.MapGet(
                "/services/{name}/why",
                async (string name, DateTimeOffset? at, Registry registry, House house) =>
                    registry.Find(name) is { } actor
                        ? await WhyFinder.Of(actor, at, house).ConfigureAwait(false)
                        : Problems.NoSuchService(name, registry.Nearest(name))
            )
            .Produces<WhyView>()
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary(
                "Why a service is as it is, from the record: state, what led there, what comes next, what a "
                    + "person could do; ?at=TIME (ISO 8601) for the past"
            )
            .May(Permission.Read);
        api.MapGet(
                "/board",
                async (Registry registry, House house) =>
                    TypedResults.Json(
                        await WhyFinder.Board(registry, house).ConfigureAwait(false),
                        ApiJson.Plain.BoardView
                    )
            )
            .Produces<BoardView>()
            .WithSummary("Who asks for a person now, and how the rest is")
            .May(Permission.Read);
        api.MapGet(
                "/services/{name}/availability",
                async (string name, Registry registry, House house) =>
                    await Recorded(name, registry, house).ConfigureAwait(false) is { } actor
                        ? TypedResults.Json(
                            ServiceViews.AvailabilityOf(actor.Definition.Name, house),
                            ApiJson.Plain.IReadOnlyListAvailabilityView
                        )
                        : Problems.NoSuchService(name, registry.Nearest(name))
            )
            .Produces<IReadOnlyList<AvailabilityView>>()
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary(
                "How much it ran over a day, a week, 30 days and 12 months, planned stops told apart from falls"
            )
            .May(Permission.Read);
        api.MapPost("/services/{name}/release", Release)
            .Produces<Answer>()
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary("Lift a service's hold: it is tried again, and the answer says whether it came to run")
            .May(Permission.Operate);
        api.MapGet(
                "/services/{name}/runs",
                async (string name, int? last, DateTimeOffset? before, Registry registry, House house) =>
                    await Recorded(name, registry, house).ConfigureAwait(false) is { } actor
                        ? TypedResults.Json(
                            ServiceViews.Runs(house, actor.Definition.Name, Math.Clamp(last ?? 50, 1, 10_000), before),
                            ApiJson.Plain.IReadOnlyListRunView
                        )
                        : Problems.NoSuchService(name, registry.Nearest(name))
            )
            .Produces<IReadOnlyList<RunView>>()
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary("Runs, newest first, with how they ended and what they left behind; ?before=TIME (ISO 8601)")
            .May(Permission.Read);
        api.MapPost("/services/{name}/start", Start)
            .Produces<Answer>()
            .Produces<Problem>(422, "application/problem+json")
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary(
                "Check what could block it, start, wait, and answer with evidence; ?accept=CODE,… overrules "
                    + "findings, ?end-copies=true first ends copies outside the sentry cleanly, "
                    + "?without-needs=true passes its needs over"
            )
            .May(Permission.Operate);
        api.MapPost("/services/{name}/stop", Stop)
            .Produces<Answer>()
            .Produces<Problem>(404, "application/problem+json")
            .Produces<Problem>(409, "application/problem+json")
            .WithSummary(
                "Stop cleanly and wait until nothing of the run is left; refused while others need it, unless "
                    + "?dependents=stop, which stops them first, or ?dependents=leave"
            )
            .May(Permission.Operate);
        api.MapPost("/services/{name}/restart", Restart)
            .Produces<Answer>()
            .Produces<Problem>(422, "application/problem+json")
            .Produces<Problem>(404, "application/problem+json")
            .WithSummary(
                "Check what could block it, stop cleanly, start again, and answer with evidence; ?accept=CODE,… "
                    + "overrules findings; refused while others need it, unless ?dependents=stop, which stops "
                    + "and starts them too, or ?dependents=leave"
            )
            .May(Permission.Operate);
        api.MapDelete("/services/{name}", Unwrap)
            .Produces<Answer>()
            .Produces<Problem>(404, "application/problem+json")
            .Produces<Problem>(409, "application/problem+json")
            .WithSummary(
                "Stop cleanly, then remove the service; its output stays unless ?output=remove; refused while "
                    + "others name it as a need, unless ?dependents=leave"
            )
            .May(Permission.Define);
    }

    /// <summary>The service, once all that was seen of it so far can be read from the record.</summary>
    private static async Task<ServiceActor?> Recorded(string name, Registry registry, House house)
    {
        var actor = registry.Find(name);
        if (actor is not null)
            await house.Store.Settled().ConfigureAwait(false);
        return actor;
    }

    private static async Task<IResult> Wrap(
        string? like,
        HttpContext context,
        Registry registry,
        Checker checker,
        House house
    )
    {
        var caller = Caller.Of(context);
        var (under, problem) = CheckRoutes.Like(like, registry, house);
        if (problem is not null)
            return problem;
        var sent = await Reading.Read(context.Request, caller, under).ConfigureAwait(false);
        if (sent.Definition is not { } definition)
            return sent.Problem!;
        if (registry.Find(definition.Name) is not null)
            return Taken(definition);
        var findings = await checker.All(definition).ConfigureAwait(false);
        if (FindingViews.Left(findings, definition.Accept, forStart: false) is { Count: > 0 } left)
            return FindingViews.Refusal(left, "run");
        await registry.Shaping.WaitAsync(context.RequestAborted).ConfigureAwait(false);
        try
        {
            if (registry.Circle(definition) is { } circle)
                return Circle(circle);
            if (!registry.TryAdd(definition, JsonNodes.Write(sent.Given), caller.Name))
                return Taken(definition);
        }
        finally
        {
            registry.Shaping.Release();
        }

        LogAccepted(findings, definition.Name, definition.Accept, caller, house);
        await house.Store.Flush().ConfigureAwait(false);
        var view = registry.Find(definition.Name)!.View;
        var answer = new Answer
        {
            CameTrue = true,
            Said =
                $"Wrapped '{view.Title}' as {view.Name}, to run as {view.Account}. It is registered, not running"
                + (
                    view.At == "boot" ? "; it begins with the machine."
                    : view.At == "boot-late" ? "; it begins after all that begins with the machine."
                    : "."
                ),
            Service = view,
            Findings = FindingViews.Of(findings, definition.Accept),
            Repeat = FindingViews.RepeatOf(definition, sent.Given),
        };
        return TypedResults.Json(answer, ApiJson.Plain.Answer, statusCode: 201);
    }

    private static IResult Circle(IReadOnlyList<string> circle) =>
        Problems.Of(
            422,
            "needs-circle",
            "A circle of needs",
            $"Its needs would close a circle, in which nobody could begin: {NeedChecks.InWords(circle)}. Nothing "
                + $"was changed.",
            "Take one of these needs out."
        );

    private static IResult Taken(Definition definition) =>
        Problems.Of(
            409,
            "name-taken",
            "The name is taken",
            $"There is a service called '{definition.Name}' already; nothing was changed.",
            $"Choose another name, see what it is with 'calm show {definition.Name}', or change it with 'calm "
                + $"adjust {definition.Name}'."
        );

    private static async Task<IResult> Adjust(
        string name,
        bool? whole,
        HttpContext context,
        Registry registry,
        Checker checker,
        House house
    )
    {
        if (registry.Find(name) is not { } actor)
            return Problems.NoSuchService(name, registry.Nearest(name));
        var caller = Caller.Of(context);
        var sent = await Reading
            .Read(context.Request, caller, whole == true ? null : registry.Given(actor))
            .ConfigureAwait(false);
        if (sent.Definition is not { } definition)
            return sent.Problem!;
        if (definition.Name != actor.Definition.Name)
            return Problems.Of(
                422,
                "name-fixed",
                "A name stays",
                $"The definition is named '{definition.Name}', the service '{actor.Definition.Name}'; a short "
                    + $"name is never changed, for output, secrets and history hang on it.",
                "Give it another --title, or wrap it anew under the other name."
            );
        if (actor.Situation.Run is not null && definition.Program.Kind != actor.Definition.Program.Kind)
            return Problems.Of(
                409,
                "kind-while-live",
                "It is live",
                $"{definition.Title} runs, and what kind of program it is decides how that run is ended.",
                $"Stop it first ('calm stop {definition.Name}'), adjust it, and start it again."
            );
        var findings = await checker.All(definition).ConfigureAwait(false);
        if (FindingViews.Left(findings, definition.Accept, forStart: false) is { Count: > 0 } left)
            return FindingViews.Refusal(left, "run");
        var changes = DefinitionChanges.Between(actor.Definition, definition);
        await registry.Shaping.WaitAsync(context.RequestAborted).ConfigureAwait(false);
        try
        {
            if (registry.Circle(definition) is { } circle)
                return Circle(circle);
            if (changes.Count > 0)
                await actor.Adjust(definition, JsonNodes.Write(sent.Given), caller.Name).ConfigureAwait(false);
        }
        finally
        {
            registry.Shaping.Release();
        }

        LogAccepted(findings, definition.Name, definition.Accept, caller, house);
        await house.Store.Flush().ConfigureAwait(false);
        var said =
            changes.Count == 0
                ? $"{definition.Title} is so already; nothing was changed."
                : $"{definition.Title} is adjusted, revision {actor.Revision}:\n  "
                    + $"{string.Join("\n  ", changes)}\n{Since(actor, changes)}";
        return TypedResults.Json(
            new Answer
            {
                CameTrue = true,
                Said = said,
                Service = actor.View,
                Findings = FindingViews.Of(findings, definition.Accept),
                Repeat = FindingViews.RepeatOf(definition, sent.Given),
            },
            ApiJson.Plain.Answer
        );
    }

    /// <summary>From when on changes hold, as a sentence.</summary>
    private static string Since(ServiceActor actor, IReadOnlyList<DefinitionChange> changes)
    {
        var atOnce = changes.Count(change => change.HoldsAtOnce);
        if (atOnce == changes.Count)
            return "It holds at once.";
        var but = atOnce == 0 ? "" : " The rest holds at once.";
        return actor.Situation.Run is { } run
            ? $"Run {run.Number} goes on as it was; 'calm restart {actor.Definition.Name}' brings the change in.{but}"
            : $"It holds from the next start on.{but}";
    }

    private static void LogAccepted(
        IEnumerable<Core.Findings.Finding> findings,
        string name,
        IEnumerable<string> accepted,
        Caller caller,
        House house
    )
    {
        foreach (
            var finding in findings.Where(finding =>
                finding.Severity == Core.Findings.Severity.Blocks && accepted.Contains(finding.Code)
            )
        )
            house.Log(name, "accepted", $"{finding.Code} was accepted: {finding.Seen}", caller.Name);
    }

    private static async Task<IResult> Start(
        string name,
        string? accept,
        [FromQuery(Name = "end-copies")] bool? endCopies,
        [FromQuery(Name = "without-needs")] bool? withoutNeeds,
        Registry registry,
        Checker checker,
        House house,
        HttpContext context
    )
    {
        if (registry.Find(name) is not { } actor)
            return Problems.NoSuchService(name, registry.Nearest(name));
        var caller = Caller.Of(context);
        if (actor.Definition.Begin.At == BeginAt.Never)
            return Never(actor);
        if (actor.Situation.Run is null)
        {
            if (
                endCopies == true
                && await CopyEnding.End(actor.Definition, caller, house).ConfigureAwait(false) is { } stubborn
            )
                return stubborn;
            if (await Refused(actor, accept, caller, checker, house).ConfigureAwait(false) is { } refusal)
                return refusal;
        }

        var before = actor.Situation;
        var asked = await actor.Ask(new StartAsked(caller.Name, withoutNeeds == true)).ConfigureAwait(false);
        var already = asked.LastRun == before.LastRun && asked.Phase == Phase.Running;
        return TypedResults.Json(
            await Arrive(actor, asked, already, house, context).ConfigureAwait(false),
            ApiJson.Plain.Answer
        );
    }

    private static async Task<IResult> Release(string name, Registry registry, House house, HttpContext context)
    {
        if (registry.Find(name) is not { } actor)
            return Problems.NoSuchService(name, registry.Nearest(name));
        if (actor.Situation.Phase != Phase.Held)
            return TypedResults.Json(
                new Answer
                {
                    CameTrue = true,
                    Said = $"{actor.Definition.Title} is not on hold: nothing was changed. {actor.View.Why}",
                    Service = actor.View,
                },
                ApiJson.Plain.Answer
            );
        var asked = await actor.Ask(new ReleaseAsked(Caller.Of(context).Name)).ConfigureAwait(false);
        var answer = await Arrive(actor, asked, already: false, house, context).ConfigureAwait(false);
        return TypedResults.Json(answer with { Said = $"Released from its hold. {answer.Said}" }, ApiJson.Plain.Answer);
    }

    /// <summary>What blocks is looked for before anything is stopped.</summary>
    private static async Task<IResult> Restart(
        string name,
        string? accept,
        string? dependents,
        Registry registry,
        Checker checker,
        House house,
        HttpContext context
    )
    {
        if (registry.Find(name) is not { } actor)
            return Problems.NoSuchService(name, registry.Nearest(name));
        if (actor.Definition.Begin.At == BeginAt.Never)
            return Never(actor);
        if (await Refused(actor, accept, Caller.Of(context), checker, house).ConfigureAwait(false) is { } refusal)
            return refusal;
        var by = Caller.Of(context).Name;
        var (needing, problem) = Needing(actor, dependents, "restart", registry);
        if (problem is not null)
            return problem;
        await new OrderedStop(registry, house).Stop(needing, by).ConfigureAwait(false);
        var asked = await actor.Ask(new RestartAsked(by)).ConfigureAwait(false);
        // They wait for it to be proven by themselves.
        foreach (var dependent in needing.Select(registry.Named).OfType<ServiceActor>())
            await dependent.Ask(new StartAsked(by)).ConfigureAwait(false);
        return TypedResults.Json(
            await Arrive(actor, asked, already: false, house, context).ConfigureAwait(false),
            ApiJson.Plain.Answer
        );
    }

    private static async Task<IResult?> Refused(
        ServiceActor actor,
        string? accept,
        Caller caller,
        Checker checker,
        House house
    )
    {
        IReadOnlyList<string> accepted =
        [
            .. actor.Definition.Accept,
            .. (accept ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries),
        ];
        var findings = await checker.ForStart(actor.Definition).ConfigureAwait(false);
        if (FindingViews.Left(findings, accepted, forStart: true) is { Count: > 0 } left)
        {
            house.Log(
                actor.Definition.Name,
                "start-refused",
                $"Not started: {string.Join(" ", left.Select(finding => finding.Seen))}",
                caller.Name
            );
            return FindingViews.Refusal(left, "run");
        }

        LogAccepted(findings, actor.Definition.Name, accepted, caller, house);
        return null;
    }

    /// <summary>Waits until the run asked for has been proven, or has failed.</summary>
    private static async Task<Answer> Arrive(
        ServiceActor actor,
        Situation asked,
        bool already,
        House house,
        HttpContext context
    )
    {
        // A wait may be long: that it was asked for must outlive the sentry.
        if (OnItsWay(asked))
            await house.Store.Flush().ConfigureAwait(false);
        // A run that waits for its needs has no number yet.
        var run = asked.Phase == Phase.Stopping || OnItsWay(asked) ? asked.LastRun + 1 : asked.LastRun;
        var now = await actor
            .Until(
                s =>
                    s.LastRun > run
                    || (s.Phase is not (Phase.Starting or Phase.Stopping) && !OnItsWay(s))
                    || s.Run?.Overdue == true,
                context.RequestAborted
            )
            .ConfigureAwait(false);
        await house.Store.Flush().ConfigureAwait(false);
        var came = now.LastRun == run && now.Phase == Phase.Running;
        var title = actor.Definition.Title;
        var said = came
            ? $"{title} {(already ? "was running already" : "runs")}: run "
                + $"{run}{(now.Run!.Pid is { } pid ? $", pid {pid}" : ", switched on")}."
            : $"{title} is not running: {Why(actor, now)}";
        return new Answer
        {
            CameTrue = came,
            Said = said,
            Service = actor.View,
            Evidence = EvidenceFinder.Of(actor, now, house),
        };
    }

    /// <summary>It waits for its needs, and nobody has to look yet.</summary>
    private static bool OnItsWay(Situation now) => now.Awaited is { Overdue: false };

    private static string Why(ServiceActor actor, Situation now) =>
        now switch
        {
            { LastEnd.Outcome: { Kind: OutcomeKind.NeverLaunched, Detail: { } detail } }
                when now.Phase == Phase.Stopped => detail + ".",
            _ => char.ToLowerInvariant(actor.View.Why[0]) + actor.View.Why[1..],
        };

    private static IResult Never(ServiceActor actor) =>
        Problems.Of(
            409,
            "begins-never",
            "It is set never to begin",
            $"{actor.Definition.Title} is set never to begin (begin.at: never); nothing was started.",
            $"Let it begin again with: calm adjust {actor.Definition.Name} --at request"
        );

    /// <summary>
    /// Whoever needs it and is live is to be stopped first, if that is wanted; what is wanted must be said.
    /// </summary>
    private static (IReadOnlySet<string> Needing, IResult? Problem) Needing(
        ServiceActor actor,
        string? dependents,
        string what,
        Registry registry
    )
    {
        var name = actor.Definition.Name;
        var live = registry
            .Graph.WithDependents([name])
            .Where(other => other != name && registry.Named(other)?.Situation.Run is not null)
            .ToHashSet(StringComparer.Ordinal);
        if (dependents == "leave" || live.Count == 0)
            return (new HashSet<string>(), null);
        if (dependents == "stop")
            return (live, null);
        var names = string.Join(", ", live.Order(StringComparer.Ordinal));
        return (
            live,
            Problems.Of(
                409,
                "needed-by-others",
                "Others need it",
                $"{names} {(live.Count == 1 ? "needs" : "need")} {name} and {(live.Count == 1 ? "is" : "are")} "
                    + $"running; nothing was stopped.",
                $"calm {what} {name} --with-dependents   {(what == "stop" ? "stops" : "restarts")} them too, in "
                    + $"order\ncalm {what} {name} --alone   leaves them as they are"
            )
        );
    }

    private static async Task<IResult> Stop(
        string name,
        string? dependents,
        Registry registry,
        House house,
        HttpContext context
    )
    {
        if (registry.Find(name) is not { } actor)
            return Problems.NoSuchService(name, registry.Nearest(name));
        var (needing, problem) = actor.Situation.Run is null
            ? (new HashSet<string>(), null)
            : Needing(actor, dependents, "stop", registry);
        if (problem is not null)
            return problem;
        var first = await new OrderedStop(registry, house).Stop(needing, Caller.Of(context).Name).ConfigureAwait(false);
        var answer = await StopOne(actor, house, context).ConfigureAwait(false);
        if (first.Count > 0)
            answer = answer with
            {
                Said =
                    $"{string.Join(", ", first.Select(stop => stop.Name))}, which "
                    + $"{(first.Count == 1 ? "needs" : "need")} it, {(first.Count == 1 ? "was" : "were")} "
                    + $"stopped first. {answer.Said}",
            };
        return TypedResults.Json(answer, ApiJson.Plain.Answer);
    }

    private static async Task<Answer> StopOne(ServiceActor actor, House house, HttpContext context)
    {
        var before = actor.Situation;
        var asked = await actor.Ask(new StopAsked(Caller.Of(context).Name)).ConfigureAwait(false);
        var now = await actor.Until(s => s.Phase != Phase.Stopping, context.RequestAborted).ConfigureAwait(false);
        await house.Store.Flush().ConfigureAwait(false);
        var title = actor.Definition.Title;
        var came = now.Phase == Phase.Stopped;
        var said = (came, before.Run, now.LastEnd) switch
        {
            (false, _, _) => $"{title} was started again meanwhile. {actor.View.Why}",
            (_, null, _) when ServiceTimes.Of(before) == ServiceTime.Fallen && before.Phase == Phase.Stopped =>
                $"{title} was not running; that it fell is taken as seen, and it asks for nobody any more.",
            (_, null, _) => before.Phase == Phase.Stopped
                ? $"{title} was not running."
                : $"{title} is stopped; nothing is tried again.",
            (_, _, { } end) => $"{title} is stopped: run {end.Run} {OutcomeWords.Of(end.Outcome)}"
                + $" after {Seconds(end.At - asked.Since)}{(end.Forced ? ", by force: the steps of its wind-down did not suffice" : "")}.{StepsOf(end)}{(StepsOf(end).Length > 0 ? "" : " ")}Nothing "
                + $"of it is left.{StopChecks.Advice(actor.Definition, house)}",
            _ => $"{title} is stopped.",
        };
        return new Answer
        {
            CameTrue = came,
            Said = said,
            Service = actor.View,
        };
    }

    /// <summary>What each step that is more than a signal came to.</summary>
    private static string StepsOf(LastEnd end)
    {
        var told = end
            .Steps.Where(step => step.Answer is not null)
            .Select(step =>
                $"\n  {step.What}: {step.Answer}{(step.EndedAfter is { } after ? $"; it ended {Seconds(after)} after that" : "")}"
            )
            .ToList();
        return told.Count == 0 ? "" : string.Concat(told) + "\n";
    }

    private static async Task<IResult> Unwrap(
        string name,
        string? output,
        string? dependents,
        Registry registry,
        House house,
        HttpContext context
    )
    {
        if (registry.Find(name) is not { } actor)
            return Problems.NoSuchService(name, registry.Nearest(name));
        if (dependents != "leave" && registry.Graph.DependentsOf(actor.Definition.Name) is { Count: > 0 } others)
            return Problems.Of(
                409,
                "needed-by-others",
                "Others need it",
                $"{string.Join(", ", others)} {(others.Count == 1 ? "names" : "name")} {actor.Definition.Name} as "
                    + $"a need and would wait for it in vain; nothing was changed.",
                $"Take the need out of {(others.Count == 1 ? "it" : "them")}, or unwrap "
                    + $"{(others.Count == 1 ? "it" : "them")} first\ncalm unwrap {actor.Definition.Name} "
                    + $"--alone   unwraps it all the same"
            );
        return TypedResults.Json(
            await UnwrapOne(actor, house, context, output).ConfigureAwait(false),
            ApiJson.Plain.Answer
        );
    }

    private static async Task<Answer> UnwrapOne(ServiceActor actor, House house, HttpContext context, string? output)
    {
        await actor.Ask(new UnwrapAsked(Caller.Of(context).Name)).ConfigureAwait(false);
        await actor.Until(_ => false, context.RequestAborted).ConfigureAwait(false);
        await house.Store.Flush().ConfigureAwait(false);
        var name = actor.Definition.Name;
        var directory = house.Places.OutputDirectoryOf(name);
        var kept = Directory.Exists(directory);
        if (kept && output == "remove")
        {
            Directory.Delete(directory, recursive: true);
            kept = false;
        }

        var state = house.Places.StateOf(name);
        var left = new List<string>();
        if (kept)
            left.Add($"its output in {directory}");
        if (Directory.Exists(state))
        {
            if (Directory.EnumerateFileSystemEntries(state).Any())
                left.Add($"what it keeps in {state}");
            else
                Directory.Delete(state);
        }

        return new Answer
        {
            CameTrue = true,
            Said =
                $"{actor.Definition.Title} is unwrapped. "
                + (left.Count == 0 ? "Nothing of it is left." : $"Left in place: {string.Join(" and ", left)}."),
        };
    }

    private static string Seconds(TimeSpan length) =>
        string.Create(System.Globalization.CultureInfo.InvariantCulture, $"{Math.Max(0, length.TotalSeconds):0.0} s");
}
