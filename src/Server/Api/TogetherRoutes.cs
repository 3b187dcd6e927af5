using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.AspNetCore.Mvc;

namespace CalmSentry.Server.Api;

/// <summary>
/// Several services stopped or restarted as one act: each after those that need it, and refused before anything is touched where it
/// cannot be done with all of them.
/// </summary>
internal static class TogetherRoutes
{
    private const int Most = 10_000;

    public static void MapTogether(this IEndpointRouteBuilder api)
    {
        api.MapPost("/together/start", Start)
            .Produces<Answer>()
            .Refuses(400, 404)
            .TakesJson<TogetherOrder>()
            .May(Permission.Operate);
        api.MapPost("/together/stop", Stop)
            .Produces<Answer>()
            .Refuses(400, 404, 409)
            .TakesJson<TogetherOrder>()
            .May(Permission.Operate);
        api.MapPost("/together/restart", Restart)
            .Produces<Answer>()
            .Refuses(400, 404, 409, 422)
            .TakesJson<TogetherOrder>()
            .May(Permission.Operate);
    }

    /// <summary>
    /// Check what could block any of several, start all others, wait until they are ready, and answer with what came of each. They
    /// share what is looked at; what they need is waited for as by one alone.
    /// </summary>
    /// <param name="accept">Codes of findings to be overruled, with commas between.</param>
    /// <param name="withoutNeeds">They do not wait for their needs.</param>
    public static async Task<IResult> Start(
        string? accept,
        [FromQuery(Name = "without-needs")] bool? withoutNeeds,
        Registry registry,
        Checker checker,
        SentryStore store,
        RunTools tools,
        Record logbook,
        Clocks clocks,
        HttpContext context
    )
    {
        var (services, problem) = await Named(context, registry).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        var caller = Caller.Of(context);
        var mayStart = services.Where(one => one.Definition.Begin.At != BeginAt.Never).ToList();
        var atRest = mayStart.Where(one => one.Situation.Run is null).ToList();
        using var reserve = tools.Keepers.Reserve(atRest.Count);
        var found = await checker
            .ForStart([.. atRest.Select(one => one.Definition)], caller.Askers)
            .ConfigureAwait(false);
        var inTheWay = atRest
            .Zip(found, (one, findings) => (one, left: RunRoutes.InTheWay(one, findings, accept, caller, logbook)))
            .Where(pair => pair.left.Count > 0)
            .ToDictionary(pair => pair.one, pair => pair.left);
        var asked = await Task.WhenAll(mayStart.Where(one => !inTheWay.ContainsKey(one)).Select(Ask))
            .ConfigureAwait(false);
        var arrived = await Task.WhenAll(asked.Select(Arrived)).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        var came = arrived.ToDictionary(one => one.Actor);
        return Reply.Of(Together([.. services.Select(Said)], "running", ""));

        async Task<(ServiceActor Actor, Situation Asked, bool Already)> Ask(ServiceActor actor)
        {
            var before = actor.Situation;
            var now = await actor.Ask(new StartAsked(caller.Who, withoutNeeds == true)).ConfigureAwait(false);
            return (actor, now, now.LastRun == before.LastRun && now.Phase == Phase.Running);
        }

        async Task<(ServiceActor Actor, (RunNumber Run, Situation Now) How, bool Already)> Arrived(
            (ServiceActor Actor, Situation Asked, bool Already) one
        ) =>
            (
                one.Actor,
                await RunRoutes.Arrived(one.Actor, one.Asked, registry, store, context).ConfigureAwait(false),
                one.Already
            );

        // Evidence is looked for when the last of them has come up: before, it would take time from those that have not.
        Answer Said(ServiceActor actor) =>
            came.TryGetValue(actor, out var one)
                ? RunRoutes.Came(actor, one.How, one.Already, registry, store, tools.Places, clocks)
            : inTheWay.TryGetValue(actor, out var left) ? Refused(actor, left)
            : Disabled(actor);
    }

    private static Answer Refused(ServiceActor actor, IReadOnlyList<Finding> left) =>
        new()
        {
            Code = AnswerCode.Refused,
            CameTrue = false,
            Said =
                $"{actor.Definition.Title} was not started: {string.Join(" ", left.Select(one => Shown.Line(one.Seen)))}"
                + string.Concat(left.Select(one => one.Mend).Distinct().Select(mend => $"\n    → {mend}")),
            Service = actor.View,
        };

    private static Answer Disabled(ServiceActor actor) =>
        new()
        {
            Code = AnswerCode.NotRunning,
            CameTrue = false,
            Said = $"Starting {actor.Definition.Title} is disabled (begin.at: never); it was left as it is.",
            Service = actor.View,
        };

    /// <summary>
    /// Stop several cleanly, each after those that need it, and wait until nothing of them is left. Refused while others need one of
    /// them. It goes on whether or not somebody waits.
    /// </summary>
    /// <param name="dependents">stop: others that need one of them are stopped first; leave: they keep running.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Stop(
        string? dependents,
        bool? dry,
        Registry registry,
        PlanRoom plans,
        SentryStore store,
        HttpContext context
    )
    {
        var (services, problem) = await Named(context, registry).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        var (needing, needed) = Outside(services, dependents, "stop", registry);
        if (needed is not null)
            return needed;
        if (dry == true)
            return Reply.WouldDo(WouldBe(services, needing, "stopped", "They do not run: ", registry));
        var before = services.ToDictionary(one => one, one => one.Situation);
        var live = services.Where(one => one.Situation.Run is not null).Select(one => one.Definition.Name);
        var ended = (
            await plans
                .Stop(live.Concat(needing).ToHashSet(StringComparer.Ordinal), Caller.Of(context).Who)
                .ConfigureAwait(false)
        ).ToDictionary(stop => stop.Name, StringComparer.Ordinal);
        var answers = await Task.WhenAll(services.Select(Came)).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(Together(answers, "stopped", First(needing)));

        async Task<Answer> Came(ServiceActor actor) =>
            ended.TryGetValue(actor.Definition.Name, out var stop)
                ? RunRoutes.HowStopped(actor, before[actor], actor.Situation, stop.Took, thisRun: false, store)
                : await RunRoutes.StopOne(actor, thisRun: false, store, context).ConfigureAwait(false);
    }

    /// <summary>
    /// Check what could block any of several; stop them, each after those that need it; start them again, and answer with what came of
    /// each. Refused while others need one of them. It goes on whether or not somebody waits.
    /// </summary>
    /// <param name="accept">Codes of findings to be overruled, with commas between.</param>
    /// <param name="dependents">stop: others that need one of them are restarted, too; leave: they keep running.</param>
    /// <param name="wait">While something else has one of them in hand, it is waited for; else that is refused.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Restart(
        string? accept,
        string? dependents,
        bool? wait,
        bool? dry,
        Registry registry,
        PlanRoom plans,
        Checker checker,
        SentryStore store,
        Places places,
        Record logbook,
        Clocks clocks,
        HttpContext context
    )
    {
        var (services, problem) = await Named(context, registry).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        var who = Caller.Of(context);
        var disabled = services.Where(one => one.Definition.Begin.At == BeginAt.Never).ToHashSet();
        var restarted = services.Where(one => !disabled.Contains(one)).ToList();
        var found = await checker
            .ForStart([.. restarted.Select(one => one.Definition)], who.Askers)
            .ConfigureAwait(false);
        foreach (var (actor, findings) in restarted.Zip(found))
            if (RunRoutes.InTheWay(actor, findings, accept, dry == true ? null : who, logbook) is { Count: > 0 } left)
                return CheckReplies.Refusal(left, "run");
        var (needing, needed) = Outside(restarted, dependents, "restart", registry);
        if (needed is not null)
            return needed;
        if (dry == true)
            return Reply.WouldDo(
                WouldBe(
                    restarted,
                    needing,
                    "stopped, and started again",
                    "They do not run, and would be started: ",
                    registry
                )
            );
        // A job has no run to be brought back: its restart is its own.
        var (jobs, others) = (
            restarted.Where(one => one.Definition.IsJob).ToList(),
            restarted.Where(one => !one.Definition.IsJob).ToList()
        );
        var all = others.Select(one => one.Definition.Name).Concat(needing).ToHashSet(StringComparer.Ordinal);
        await Busy.Free(
                wait,
                [.. all, .. jobs.Select(one => one.Definition.Name)],
                registry,
                clocks,
                context.RequestAborted
            )
            .ConfigureAwait(false);
        var atRest = others
            .Where(one => one.Situation.Run is null)
            .Select(one => one.Definition.Name)
            .ToHashSet(StringComparer.Ordinal);
        if (all.Count > 0)
            await plans.Begin(plans.Restart(all, who.Who, atRest.Contains)).ConfigureAwait(false);
        var answers = await Task.WhenAll(services.Select(Came)).ConfigureAwait(false);
        return Reply.Of(Together(answers, "running again", First(needing)));

        async Task<Answer> Came(ServiceActor actor)
        {
            if (disabled.Contains(actor))
                return Disabled(actor);
            var asked = actor.Definition.IsJob
                ? await actor.Ask(new RestartAsked(who.Who)).ConfigureAwait(false)
                : actor.Situation;
            return await RunRoutes
                .Arrive(actor, asked, already: false, registry, store, places, clocks, context)
                .ConfigureAwait(false);
        }
    }

    /// <summary>The services that are meant, each once, by name; one that is not there, and it is refused.</summary>
    private static async Task<(IReadOnlyList<ServiceActor> Services, IResult? Problem)> Named(
        HttpContext context,
        Registry registry
    )
    {
        var (order, notRead) = await Incoming
            .Json(context.Request, ApiJson.Plain.TogetherOrder, "which services: {\"services\": [NAME, …]}")
            .ConfigureAwait(false);
        if (order is null)
            return ([], notRead!);
        if (order.Services.Count is 0 or > Most || order.Services.Any(string.IsNullOrEmpty))
            return (
                [],
                Problems.Of(
                    400,
                    ProblemCode.MalformedBody,
                    "Not what this call takes",
                    $"There are {order.Services.Count} names; allowed: 1 to {Most}, none of them empty. Nothing was done.",
                    "{\"services\": [NAME, …]}"
                )
            );
        var found = new List<ServiceActor>();
        foreach (var name in order.Services)
        {
            if (registry.Find(name) is not { } actor)
                return ([], Problems.NoSuchService(name, registry.Nearest(name), registry.RenamedTo(name)));
            if (!found.Contains(actor))
                found.Add(actor);
        }

        return (found, null);
    }

    /// <summary>Who needs one of them and is none of them.</summary>
    private static (IReadOnlySet<string> Needing, IResult? Problem) Outside(
        IReadOnlyList<ServiceActor> services,
        string? dependents,
        string what,
        Registry registry
    )
    {
        var names = services.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        // What does not run is stopped for nobody.
        var live = services
            .Where(one => one.Situation.Run is not null)
            .Select(one => one.Definition.Name)
            .ToHashSet(StringComparer.Ordinal);
        return RunRoutes.Needing(live, dependents, what, registry, names);
    }

    private static string WouldBe(
        IReadOnlyList<ServiceActor> services,
        IReadOnlySet<string> needing,
        string what,
        string others,
        Registry registry
    )
    {
        var live = services.Where(one => one.Situation.Run is not null).Select(one => one.Definition.Name);
        var all = live.Concat(needing).ToHashSet(StringComparer.Ordinal);
        var order = PlanLife.Stops(registry.Graph, all).Select(stop => stop.Name).ToList();
        var rest = services.Select(one => one.Definition.Name).Where(name => !all.Contains(name)).ToList();
        return (order.Count == 0 ? "" : $"Would be {what}, each after those that need it: {string.Join(", ", order)}. ")
            + (rest.Count == 0 ? "" : $"{others}{string.Join(", ", rest)}. ")
            + "Nothing was done.";
    }

    private static string First(IReadOnlySet<string> needing) =>
        needing.Count == 0
            ? ""
            : $" With them, for {(needing.Count == 1 ? "it needs" : "they need")} one of them: {string.Join(", ", needing.Order(StringComparer.Ordinal))}.";

    private static Answer Together(Answer[] answers, string what, string more)
    {
        var not = answers.Where(one => !one.CameTrue).Select(one => one.Service!.Name).ToList();
        var all = not.Count == 0;
        return new()
        {
            Code = all ? AnswerCode.AllDone : AnswerCode.NotAllDone,
            CameTrue = all,
            Said = all
                ? $"{(answers.Length == 1 ? "The one service is" : $"All {answers.Length} services are")} {what}.{more}"
                : $"{answers.Length - not.Count} of {answers.Length} services are {what}; not: {string.Join(", ", not)}.{more}",
            Each = answers,
        };
    }
}
