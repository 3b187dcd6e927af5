using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Inspection.Rehearsals;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Telling;
using Microsoft.AspNetCore.Http.Features;

namespace CalmSentry.Server.Api;

/// <summary>
/// Finding out before: checks and rehearsals, of registered services and of definitions that are not.
/// </summary>
internal static class CheckRoutes
{
    public static void MapChecks(this IEndpointRouteBuilder api)
    {
        api.MapPost("/check", Check).TakesDefinition().Produces<CheckView>().May(Permission.Define);
        var one = api.OneService();
        one.MapGet("/check", CheckService).May(Permission.Operate);
        api.MapPost("/rehearsals", RehearseDefinition)
            .TakesDefinition()
            .Produces<RehearsalEvent>(200, "application/x-ndjson")
            .Refuses(422)
            .May(Permission.Define);
        one.MapPost("/rehearsals", RehearseService)
            .Produces<RehearsalEvent>(200, "application/x-ndjson")
            .Refuses(422)
            .May(Permission.Operate);
        api.MapPost("/rehearsals/{id}/end", EndRehearsal).Produces(204).Refuses(404).May(Permission.Operate);
    }

    /// <summary>What would go wrong with a definition on this host; nothing is registered or run.</summary>
    public static async Task<IResult> Check(
        string? like,
        Registry registry,
        Checker checker,
        RunTools tools,
        Clocks clocks,
        Teller teller,
        DailyNotes notes,
        HttpContext context
    )
    {
        var (under, problem) = Like(like, registry);
        if (problem is not null)
            return problem;
        var sent = await Reading.Read(context.Request, Caller.Of(context), under).ConfigureAwait(false);
        if (sent.Definition is { } read)
            notes.Say(teller.NobodyHearsOf(read), context);
        return TypedResults.Json(
            await CheckReplies
                .Check(
                    sent,
                    checker,
                    tools,
                    clocks,
                    Caller.Of(context).Askers,
                    sent.Definition is { } definition ? registry.Named(definition.Name) : null
                )
                .ConfigureAwait(false),
            ApiJson.Plain.CheckView
        );
    }

    /// <summary>What would go wrong with a registered service now.</summary>
    public static Task<CheckView> CheckService(
        Called called,
        Registry registry,
        Checker checker,
        RunTools tools,
        Clocks clocks,
        Teller teller,
        DailyNotes notes,
        HttpContext context
    )
    {
        notes.Say(teller.NobodyHearsOf(called.Service.Definition), context);
        return CheckReplies.Check(
            Reading.Of(registry.Given(called.Service)),
            checker,
            tools,
            clocks,
            Caller.Of(context).Askers
        );
    }

    /// <summary>
    /// Run a definition exactly as its service would, for ?length= (10s); live lines, then the report.
    /// </summary>
    public static async Task<IResult> RehearseDefinition(
        string? length,
        string? accept,
        string? like,
        Registry registry,
        RehearsalRoom room,
        Checker checker,
        HttpContext context
    )
    {
        var (under, problem) = Like(like, registry);
        if (problem is not null)
            return problem;
        var sent = await Reading.Read(context.Request, Caller.Of(context), under).ConfigureAwait(false);
        return sent.Problem
            ?? await Rehearse(sent.Definition!, length, accept, room, checker, context).ConfigureAwait(false);
    }

    /// <summary>The same, of a registered service that is not running.</summary>
    public static Task<IResult> RehearseService(
        Called called,
        string? length,
        string? accept,
        RehearsalRoom room,
        Checker checker,
        HttpContext context
    ) => Rehearse(called.Service.Definition, length, accept, room, checker, context);

    /// <summary>Wind a rehearsal down now, and report.</summary>
    public static IResult EndRehearsal(string id, RehearsalRoom room) =>
        room.End(id)
            ? TypedResults.NoContent()
            : Problems.Of(404, ProblemCode.NoSuchRehearsal, "No such rehearsal", $"No rehearsal {id} is being played.");

    /// <summary>The definition to be laid under another: that of a sibling, without what must be its own.</summary>
    public static (MapNode? Under, IResult? Problem) Like(string? like, Registry registry)
    {
        if (like is null)
            return (null, null);
        if (registry.Find(like) is not { } actor)
            return (null, Problems.NoSuchService(like, registry.Nearest(like)));
        return (
            new MapNode([.. registry.Given(actor).Entries.Where(entry => entry.Key is not ("name" or "title"))]),
            null
        );
    }

    private static async Task<IResult> Rehearse(
        Definition definition,
        string? length,
        string? accept,
        RehearsalRoom room,
        Checker checker,
        HttpContext context
    )
    {
        var time = TimeSpan.FromSeconds(10);
        if (length is not null && (!Duration.TryRead(length, out time) || time > TimeSpan.FromHours(24)))
            return Problems.Of(
                400,
                ProblemCode.BadLength,
                "Not a length of time",
                $"length is '{length}'; allowed: {Duration.Allowed}, at most 1 d."
            );
        if (room.Running(definition.Name) is { } why)
            return Problems.Of(
                409,
                ProblemCode.RunsAlready,
                "It runs already",
                why,
                $"Stop it first: calm stop {definition.Name}"
            );
        var left = FindingViews.Left(
            await checker.ForStart(definition, Caller.Of(context).Askers).ConfigureAwait(false),
            [.. definition.Accept, .. (accept ?? "").Split(',', StringSplitOptions.RemoveEmptyEntries)],
            forStart: true
        );
        if (left.Count > 0)
            return CheckReplies.Refusal(left, "run");
        context.Response.ContentType = "application/x-ndjson";
        context.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        var gone = context.RequestAborted;
        var played = room.Play(definition, time, Caller.Of(context).Who, gone);
        await foreach (var happened in played.ConfigureAwait(false))
        {
            // To its end, also when nobody listens any more.
            if (gone.IsCancellationRequested)
                continue;
            var line = JsonSerializer.Serialize(happened, ApiJson.Plain.RehearsalEvent) + "\n";
            await context.Response.WriteAsync(line, CancellationToken.None).ConfigureAwait(false);
            await context.Response.Body.FlushAsync(CancellationToken.None).ConfigureAwait(false);
        }
        return TypedResults.Empty;
    }
}
