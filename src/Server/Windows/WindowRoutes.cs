using System.Net.Sockets;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Terminals;
using CalmSentry.Engine.Windows;
using CalmSentry.Server.Api;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Server.Terminals;

namespace CalmSentry.Server.Windows;

/// <summary>What a service shows on the display of its own.</summary>
internal static class WindowRoutes
{
    private const string Png = "image/png";

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    public static void MapWindows(this IEndpointRouteBuilder api)
    {
        api.OneService()
            .MapGet("/window", Save)
            .Produces(200, contentType: Png)
            .Refuses(404, 409, 503)
            .May(Permission.Read);
        api.OneService()
            .MapPost("/window", Ask)
            .Produces<WindowTicket>(201)
            .Refuses(404, 409, 503)
            .May(Permission.Read);
        api.MapGet("/window", Join).Produces(101).Refuses(400, 401).May(Permission.Ticket);
    }

    /// <summary>The live display of a service, or why there is none.</summary>
    private static (Display? Display, IResult? Problem) Of(ServiceActor actor, RunTools tools)
    {
        var name = actor.Definition.Name;
        if (actor.Definition.Program.Window is null)
            return (
                null,
                Problems.Of(
                    409,
                    ProblemCode.NoWindow,
                    "No display",
                    $"{name} has no display of its own, so there is nothing to be seen.",
                    $"calm adjust {name} --window 1280x800, then calm restart {name}"
                )
            );
        if (actor.Situation.Run is { } run && tools.Displays.Of(actor.Site(run.Number).Name) is { } display)
            return (display, null);
        return (
            null,
            actor.Situation.Lives
                ? Problems.Of(
                    409,
                    ProblemCode.NoWindow,
                    "No display",
                    $"The display of {name} is not there: it comes with its next start.",
                    $"calm restart {name}"
                )
                : Problems.Of(
                    409,
                    ProblemCode.NotRunning,
                    "Not running",
                    $"{name} is not running, so its display shows nothing.",
                    tools.Pictures.Latest(actor.Id.ToString()) is { } latest
                        ? $"calm start {name}; what run {latest} showed last: calm window {name} --run {latest} --to FILE.png"
                        : $"calm start {name}"
                )
        );
    }

    /// <summary>A ticket that joins the service's window, once, within half a minute.</summary>
    /// <param name="watch">Only to see: nothing that acts is taken.</param>
    public static IResult Ask(
        Called called,
        bool? watch,
        RunTools tools,
        Tickets tickets,
        WindowRoom room,
        Sessions sessions,
        Clocks clocks,
        HttpContext context
    )
    {
        var (actor, caller) = (called.Service, Caller.Of(context));
        if (watch != true && !caller.May(Permission.Operate))
            return Problems.NotPermitted(caller.Account);
        if (Of(actor, tools).Problem is { } problem)
            return problem;
        var (acting, viewers) = room.Of(actor);
        if (viewers >= MostViewers)
            return TooMany(
                $"{viewers} see the window of {actor.Definition.Name}, as many as there may be.",
                "Close some: each open page of it is one."
            );
        var session = caller.Kind == CallerKind.Session ? sessions.Of(context.Request)?.Id : null;
        return tickets.New(TicketFor.Window, actor.Id, caller, watch != true, session) is { } ticket
            ? TypedResults.Json(
                new WindowTicket(ticket, clocks.Now + Tickets.Life, watch != true, acting?.Who.Name, viewers),
                ApiJson.Plain.WindowTicket,
                statusCode: 201
            )
            : TooMany(
                "As many tickets as there may be wait to be used.",
                $"Try again in {Tickets.Life.TotalSeconds:0} s."
            );
    }

    private const int MostViewers = 16;

    private static IResult TooMany(string why, string what) =>
        Problems.Of(503, ProblemCode.TooManyViewers, "Too many viewers", why, what);

    /// <summary>Join a window by a ticket, as a WebSocket: bytes of the remote framebuffer protocol (RFC 6143).</summary>
    /// <param name="ticket">As it was given, unused.</param>
    /// <param name="take">To act although somebody else does, who only sees it then.</param>
    public static async Task<IResult> Join(
        string? ticket,
        bool? take,
        RunTools tools,
        Tickets tickets,
        WindowRoom room,
        Registry registry,
        Sessions sessions,
        Clocks clocks,
        IHostApplicationLifetime life,
        HttpContext context
    )
    {
        if (!context.WebSockets.IsWebSocketRequest)
            return Problems.Of(
                400,
                ProblemCode.NoWebSocket,
                "No WebSocket",
                "A window is joined by a WebSocket (RFC 6455).",
                "calm window NAME --to FILE.png"
            );
        if (
            tickets.Use(ticket, TicketFor.Window) is not { } held
            || !held.IsItsOwner(context, sessions)
            || registry.All.FirstOrDefault(one => one.Id == held.Service) is not { } service
            || Of(service, tools).Display is not { } display
        )
            return Problems.BadTicket();
        using var over = CancellationTokenSource.CreateLinkedTokenSource(
            context.RequestAborted,
            life.ApplicationStopping
        );
        Socket line;
        try
        {
            line = display.Connect();
        }
        catch (SocketException)
        {
            return Problems.BadTicket();
        }

        using var mine = line;
        using var socket = await Views.Accept(context).ConfigureAwait(false);
        using var seat = room.Join(service, held.Caller.Who, held.Acts);
        if (take == true && held.Acts)
            room.TakeOver(seat);
        var view = new WindowView(socket, line, seat, room, held.Acts, clocks);
        await view.Show(() => registry.All.Contains(service) && held.Holds(sessions), over).ConfigureAwait(false);
        return TypedResults.Empty;
    }

    /// <summary>The picture on the service's display now, or what a run of it showed last, as a PNG.</summary>
    /// <param name="run">Which run; of the latest some are kept. Left out: what it shows now.</param>
    public static async Task<IResult> Save(Called called, long? run, RunTools tools, CancellationToken cancellation)
    {
        var (actor, name) = (called.Service, called.Service.Definition.Name);
        if (run is { } past)
        {
            var label = actor.Id.ToString();
            return tools.Pictures.Of(label, new(past)) is var (kept, at)
                ? TypedResults.Bytes(kept, Png, lastModified: at)
                : Problems.Of(
                    404,
                    ProblemCode.NoWindow,
                    "No picture",
                    $"No picture is kept of run {past} of {name}.",
                    tools.Pictures.Latest(label) is { } latest
                        ? $"The latest is of run {latest}: calm window {name} --run {latest} --to FILE.png"
                        : $"calm runs {name}"
                );
        }

        if (Of(actor, tools) is not (var display and not null, _))
            return Of(actor, tools).Problem!;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(Patience);
        try
        {
            return TypedResults.Bytes(await Picture.Of(display.Connect(), limit.Token).ConfigureAwait(false), Png);
        }
        catch (Exception error) when (error is IOException or SocketException or OperationCanceledException)
        {
            cancellation.ThrowIfCancellationRequested();
            return Problems.Of(
                503,
                ProblemCode.NoWindow,
                "No picture",
                $"The display of {name} gave no picture: {error.Message.TrimEnd('.')}.",
                $"calm why {name}"
            );
        }
    }
}
