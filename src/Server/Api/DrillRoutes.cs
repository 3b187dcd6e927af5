using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Drills;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Server.Self;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>Boots and drills: what began how, what a reboot would do, and winding all down before one.</summary>
internal static class DrillRoutes
{
    public static void MapDrills(this IEndpointRouteBuilder api)
    {
        api.MapGet("/drills/plan", Plan).Produces<DrillPlan>().Refuses(404).May(Permission.Read);
        api.MapPost("/drills", Play)
            .Produces<DrillEvent>(200, "application/x-ndjson")
            .Refuses(404, 409)
            .May(Permission.Operate);
        api.MapGet("/drills", All).Produces<IReadOnlyList<BeginReport>>().May(Permission.Read);
        api.MapGet("/drills/latest", Latest).Produces<BeginReport>().Refuses(400, 404).May(Permission.Read);
        api.MapPost("/wind-down", WindDown).Produces<Answer>().Refuses(400).May(Permission.Administer);
    }

    /// <summary>
    /// What a drill of all services, or of ?services=NAME,… and all they need, would interrupt and begin, in which
    /// order and how long by history; nothing is touched.
    /// </summary>
    /// <param name="services">Names, with commas between.</param>
    /// <param name="without">Names of those that go on meanwhile, and with them all they need.</param>
    public static IResult Plan(string? services, string? without, Registry registry, DrillRoom room) =>
        Chosen(services, without, registry, out var named, out var problem)
            ? TypedResults.Json(room.Plan(named), ApiJson.Plain.DrillPlan)
            : problem!;

    /// <summary>The latest report of each kind, the newest first; also the one that goes on.</summary>
    public static IResult All(DrillRoom room) =>
        TypedResults.Json(
            [
                .. Enum.GetValues<ReportKind>()
                    .Select(kind => room.Now is { } now && now.Kind == kind ? now : room.Latest(kind))
                    .OfType<StartReport>()
                    .OrderByDescending(report => report.Began)
                    .Select(ReportViews.Of),
            ],
            ApiJson.Plain.IReadOnlyListBeginReport
        );

    /// <summary>The latest report, also while it goes on; of ?kind=boot, drill or start, or of any.</summary>
    public static IResult Latest(string? kind, DrillRoom room) =>
        kind is not null && Words.Find<ReportKind>(kind) is null
            ? Problems.Of(
                400,
                ProblemCode.BadKind,
                "No such kind of report",
                $"kind is '{kind}'; allowed: {string.Join(", ", Enum.GetValues<ReportKind>().Select(Words.Of))}."
            )
        : (kind is null ? room.Now ?? room.Latest(null) : room.Latest(Words.To<ReportKind>(kind))) is { } report
            ? TypedResults.Json(ReportViews.Of(report), ApiJson.Plain.BeginReport)
        : Problems.Of(
            404,
            ProblemCode.NoReport,
            "No report yet",
            kind == "boot"
                ? "No boot of this machine has been seen with services to begin."
                : "No boot and no drill has been seen yet.",
            "'calm drill' plays one."
        );

    /// <summary>
    /// Wind all services down in order, or ?services=NAME,… and all they need, and begin them as a boot would; live
    /// notes, then the report.
    /// </summary>
    /// <param name="services">Names, with commas between.</param>
    /// <param name="without">Names of those that go on meanwhile, and with them all they need.</param>
    /// <param name="wait">While something else has one of them in hand, it is waited for; else that is refused.</param>
    public static async Task<IResult> Play(
        string? services,
        string? without,
        bool? wait,
        Registry registry,
        DrillRoom room,
        Clocks clocks,
        HttpContext context
    )
    {
        if (!Chosen(services, without, registry, out var names, out var problem))
            return problem!;
        await Busy.Free(wait, room.Concerned(names), registry, clocks, context.RequestAborted).ConfigureAwait(false);
        if (room.Play(names, Caller.Of(context).Who) is not { } live)
            return Problems.Of(
                409,
                ProblemCode.Busy,
                "One at a time",
                "A boot or a drill is under way; nothing was touched.",
                "Wait for its report: calm drill --last"
            );
        await Reply.Live(context, live, ApiJson.Plain.DrillEvent).ConfigureAwait(false);
        return TypedResults.Empty;
    }

    /// <summary>
    /// Before the machine goes down: wind all services down in order, within ?within= (the host's setting) at most; the
    /// next start begins what begins with the machine.
    /// </summary>
    public static async Task<IResult> WindDown(
        string? within,
        bool? dry,
        Registry registry,
        PlanRoom plans,
        SentryStore store,
        Record logbook,
        SettingsFile settings,
        HttpContext context
    )
    {
        var limit = settings.Now.ShutdownWithin;
        if (within is not null && !Duration.TryRead(within, out limit))
            return Problems.Of(
                400,
                ProblemCode.BadLength,
                "Not a length of time",
                $"within is '{within}'; allowed: {Duration.Allowed}."
            );
        var by = Caller.Of(context).Who;
        // What runs on request stays what it is; what begins with the machine begins again with the next start.
        var plan = plans.Of(
            PlanKind.Shutdown,
            registry.All.Select(actor => actor.Definition.Name).ToHashSet(StringComparer.Ordinal),
            by
        );
        if (dry == true)
        {
            var live = plan.Stops.Where(stop => registry.Named(stop.Name)?.Situation.Run is not null).ToList();
            return Reply.WouldDo(
                $"{live.Count} {(live.Count == 1 ? "service" : "services")} would be wound down"
                    + $"{(live.Count == 0 ? "" : $", in this order: {string.Join(", ", live.Select(stop => stop.Name))}")}; "
                    + $"what is left after {Duration.Write(limit)} would be killed. Nothing was done.",
                null
            );
        }

        logbook.Note(new WindingDownEntry(limit), by);
        var stops = PlanRoom.StopsOf(
            await plans.Begin(plan with { ForceAt = plan.Began + limit }).ConfigureAwait(false)
        );
        var forced = stops.Where(stop => stop.Forced).Select(stop => stop.Name).ToList();
        var said =
            $"{stops.Count} {(stops.Count == 1 ? "service" : "services")} wound "
            + $"down{(stops.Count == 0 ? "" : $", in this order: {string.Join(", ", stops.Select(stop => stop.Name))}")}."
            + (forced.Count == 0 ? "" : $" By force: {string.Join(", ", forced)}.");
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            new Answer
            {
                Code = AnswerCode.AllStopped,
                CameTrue = forced.Count == 0,
                Said = said,
            }
        );
    }

    private static bool Chosen(
        string? services,
        string? without,
        Registry registry,
        out DrilledSet chosen,
        out IResult? problem
    )
    {
        chosen = new([], []);
        if (
            !Named(services, registry, out var names, out problem)
            || !Named(without, registry, out var left, out problem)
        )
            return false;
        chosen = new(names, left);
        return true;
    }

    private static bool Named(
        string? services,
        Registry registry,
        out IReadOnlyCollection<string> names,
        out IResult? problem
    )
    {
        var found = new List<string>();
        problem = null;
        foreach (var called in (services ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries))
        {
            if (registry.Find(called) is { } actor)
                found.Add(actor.Definition.Name);
            else
                problem ??= Problems.NoSuchService(called, registry.Nearest(called));
        }

        names = found;
        return problem is null;
    }
}
