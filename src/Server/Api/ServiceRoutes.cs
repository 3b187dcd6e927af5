using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Settling;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Server.Self;
using CalmSentry.Store;
using CalmSentry.Telling;
using CalmSentry.Telling.Forwarding;

namespace CalmSentry.Server.Api;

/// <summary>Services as they stand, and their records.</summary>
internal static class ServiceRoutes
{
    public static void MapServices(this IEndpointRouteBuilder api)
    {
        api.MapGet("/services", All).May(Permission.Read);
        api.MapGet("/board", Board).May(Permission.Read).WithMetadata(new Unrecorded.Told());
        api.MapGet("/definition.schema.json", Schema)
            .Produces<string>(200, "application/schema+json")
            .May(Permission.Read);
        var one = api.OneService();
        one.MapGet("", One).May(Permission.Read);
        one.MapGet("/definition", File).Produces<string>(200, "application/yaml").May(Permission.Read);
        one.MapGet("/why", Why).Produces<WhyView>().Refuses(400).May(Permission.Read);
        one.MapGet("/runs", Runs).Produces<IReadOnlyList<RunView>>().Refuses(400).May(Permission.Read);
        one.MapGet("/availability", Availability).May(Permission.Read);
    }

    /// <summary>Calls about one service: 404 for a name that nobody has is said once, for all of them.</summary>
    public static RouteGroupBuilder OneService(this IEndpointRouteBuilder api)
    {
        var group = api.MapGroup("/services/{name}");
        group.AddEndpointFilter(Called.OrNotFound);
        group.Refuses(404);
        return group;
    }

    /// <summary>All services as they stand now.</summary>
    /// <param name="usage">With what their processes use of memory and processor, looked at for this call.</param>
    public static async Task<KeptList> All(
        bool? usage,
        Registry registry,
        Clocks clocks,
        Teller teller,
        SettingsFile settings,
        DailyNotes notes,
        HttpContext context
    )
    {
        var note = registry.HeldBack is { } why
            ? $"Nothing was started at this boot: {why}. 'calm start NAME' starts one."
            : settings.Trouble;
        var views = registry.Views;
        if (note is not null && views.Count > 0)
            context.Response.Headers[OwnHeaders.Note] = note;
        else if (views.Count > 0)
            notes.Say(teller.SomebodyUnheard, context);
        if (usage != true)
            return new(views);
        var live = registry.All.Where(actor => actor.Situation.Run?.Pid is not null).ToList();
        // What is used of a processor is told by two looks.
        if (live.Select(actor => actor.Vitals.Look(UsageFresh)).ToList().Exists(sample => sample.Cpu is null))
            await clocks.Delay(UsageApart, context.RequestAborted).ConfigureAwait(false);
        var used = live.ToDictionary(actor => actor.Id.Number, actor => actor.Vitals.Look(UsageApart));
        return new([
            .. registry.Views.Select(view =>
                used.GetValueOrDefault(view.Id) is { } sample
                    ? view with
                    {
                        Usage = new(sample.Memory, sample.Cpu, sample.Tree.Count),
                    }
                    : view
            ),
        ]);
    }

    private static readonly TimeSpan UsageApart = TimeSpan.FromMilliseconds(250),
        UsageFresh = TimeSpan.FromSeconds(2);

    /// <summary>Which services need attention now, and how the rest is.</summary>
    public static async Task<BoardView> Board(
        Registry registry,
        SentryStore store,
        Places places,
        Forwarders forwarders,
        Teller teller,
        SettingsFile settings,
        TimeProvider clock
    ) =>
        await WhyFinder.Board(registry, store, clock).ConfigureAwait(false) with
        {
            Limits = Limits.ThatPass(store, registry, places, forwarders, teller, settings),
        };

    /// <summary>JSON Schema (2020-12) of a definition.</summary>
    public static IResult Schema() => TypedResults.Text(DefinitionSchema.Write(), "application/schema+json");

    /// <summary>One service with its whole definition and latest runs; by short name or title.</summary>
    public static async Task<ServiceDetail> One(
        Called called,
        Registry registry,
        RunTools tools,
        Clocks clocks,
        HttpContext context
    )
    {
        context.Response.GetTypedHeaders().ETag = RevisionRoutes.TagOf(called.Service);
        await tools.Store.Settled().ConfigureAwait(false);
        var actor = called.Service;
        return ServiceViews.Detail(actor, tools, clocks, registry) with
        {
            CameFrom = FileSet.Origins(tools.Store.SourceOf(actor.Id, actor.Revision), actor.Definition),
        };
    }

    /// <summary>
    /// A service's definition as it was given, as a file (YAML): the one it came from, comments and all, with what was changed since.
    /// </summary>
    public static async Task<IResult> File(Called called, Registry registry, SentryStore store, HttpContext context)
    {
        var actor = called.Service;
        await store.Settled().ConfigureAwait(false);
        context.Response.GetTypedHeaders().ETag = RevisionRoutes.TagOf(actor);
        return TypedResults.Text(
            Exporting.Alone(actor.Definition, registry.Given(actor), store.SourceOf(actor.Id, actor.Revision)),
            "application/yaml"
        );
    }

    /// <summary>
    /// Why a service is as it is, from the record: state, what led there, what comes next, what a person could do.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="at">A time in the past to answer for: ISO 8601, or as the host's clock shows it; left out: now.</param>
    public static Task<IResult> Why(Called called, string? at, RunTools tools, Clocks clocks)
    {
        var (time, problem) = HostTime.Read("at", at, clocks.Now);
        return problem is null ? WhyFinder.Of(called.Service, time, tools.Store, clocks) : Task.FromResult(problem);
    }

    /// <summary>Runs, newest first, each with its outcome and what it left behind.</summary>
    /// <param name="called">The service.</param>
    /// <param name="last">How many at most, 1 to 10,000; left out: 50.</param>
    /// <param name="before">Only runs that began before this time: ISO 8601, or as the host's clock shows it.</param>
    public static async Task<IResult> Runs(Called called, int? last, string? before, RunTools tools, Clocks clocks)
    {
        const int most = 10_000;
        if (last is < 1 or > most)
            return Problems.NotSoMany(last, most);
        var (time, problem) = HostTime.Read("before", before, clocks.Now);
        if (problem is not null)
            return problem;
        await tools.Store.Settled().ConfigureAwait(false);
        return TypedResults.Json(
            ServiceViews.Runs(tools, called.Service.Id, last ?? 50, time),
            ApiJson.Plain.IReadOnlyListRunView
        );
    }

    /// <summary>
    /// How much it ran over a day, a week, 30 days and 12 months, planned stops told apart from failures.
    /// </summary>
    public static async Task<IReadOnlyList<AvailabilityView>> Availability(
        Called called,
        SentryStore store,
        TimeProvider clock
    )
    {
        await store.Settled().ConfigureAwait(false);
        return ServiceViews.AvailabilityOf(called.Service.Id, called.Service.Definition.IsJob, store, clock);
    }
}
