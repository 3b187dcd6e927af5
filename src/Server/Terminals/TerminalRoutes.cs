using CalmSentry.Contract.Api;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Terminals;
using CalmSentry.Server.Api;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Terminals;

/// <summary>A service's terminal, seen while it runs.</summary>
internal static class TerminalRoutes
{
    public static void MapTerminals(this IEndpointRouteBuilder api)
    {
        api.OneService()
            .MapPost("/terminal", Ask)
            .Produces<TerminalTicket>(201)
            .Refuses(404, 409, 503)
            .May(Permission.Read);
        api.OneService().MapPost("/input", Give).Produces<Answer>().Refuses(400, 404, 409, 413).May(Permission.Operate);
        api.MapGet("/terminal", Join).Produces(101).Refuses(400, 401).May(Permission.Ticket);
    }

    /// <summary>A ticket that joins the service's terminal, once, within half a minute.</summary>
    /// <param name="watch">Only to see: no key is taken.</param>
    public static IResult Ask(
        Called called,
        bool? watch,
        Tickets tickets,
        TerminalRoom room,
        Sessions sessions,
        Clocks clocks,
        HttpContext context
    )
    {
        var (actor, caller) = (called.Service, Caller.Of(context));
        if (watch != true && !caller.May(Permission.Operate))
            return Problems.NotPermitted(caller.Account);
        if (actor.Definition.Program.Screen is null)
            return Problems.Of(
                409,
                ProblemCode.NoTerminal,
                "No terminal to join",
                actor.Definition.Program.Terminal
                    ? $"{actor.Definition.Name} has a terminal for its output alone, of no size."
                    : $"{actor.Definition.Name} runs without a terminal: what it prints goes into its output.",
                $"calm adjust {actor.Definition.Name} --terminal 120x40, then calm restart {actor.Definition.Name}"
            );
        if (!actor.Situation.Lives)
            return Problems.Of(
                409,
                ProblemCode.NotRunning,
                "Not running",
                $"{actor.Definition.Name} is not running, so its terminal shows nothing.",
                $"calm start {actor.Definition.Name}"
            );
        var (typedBy, viewers, size) = room.At(actor);
        if (viewers >= ViewerForm.MostViewers)
            return Problems.Of(
                503,
                ProblemCode.TooManyViewers,
                "Too many viewers",
                $"{viewers} see the terminal of {actor.Definition.Name}, as many as there may be.",
                "Close some: each 'calm terminal' and each open page of it is one."
            );
        var session = caller.Kind == CallerKind.Session ? sessions.Of(context.Request)?.Id : null;
        return tickets.New(TicketFor.Terminal, actor.Id, caller, watch != true, session) is { } ticket
            ? TypedResults.Json(
                new TerminalTicket(
                    ticket,
                    clocks.Now + Tickets.Life,
                    size!.Value.Columns,
                    size.Value.Rows,
                    watch != true,
                    typedBy,
                    viewers
                ),
                ApiJson.Plain.TerminalTicket,
                statusCode: 201
            )
            : Problems.Of(
                503,
                ProblemCode.TooManyViewers,
                "Too many tickets",
                "As many tickets as there may be wait to be used.",
                $"Try again in {Tickets.Life.TotalSeconds:0} s."
            );
    }

    private static readonly TimeSpan InputPatience = TimeSpan.FromSeconds(5);

    /// <summary>Give the program a text, the body, on its input or at its terminal, as it is: a line has its end.</summary>
    public static async Task<IResult> Give(Called called, Record logbook, HttpContext context)
    {
        var actor = called.Service;
        var (text, problem) = await Incoming.Text(context.Request, ViewerForm.Longest).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        if (!actor.Definition.KeepsInput && !actor.Definition.Program.Terminal)
            return Problems.Of(
                409,
                ProblemCode.NoInput,
                "No input",
                $"{actor.Definition.Title} has no input that is kept open, and no terminal; nothing was sent.",
                $"calm adjust {actor.Definition.Name} --input kept, then calm restart {actor.Definition.Name}"
            );
        if (actor.Situation is not { Phase: Phase.Running, Run.Number: var run })
            return Problems.Of(
                409,
                ProblemCode.NotRunning,
                "Not running",
                $"{actor.Definition.Title} is not running; nothing was sent. {actor.View.Why}",
                $"calm start {actor.Definition.Name}"
            );
        var effect = await actor
            .Perform(new SendStep(text!, new SendTo(SendKind.Input, ""), InputPatience), run)
            .ConfigureAwait(false);
        if (!effect.Failed)
            logbook.Note(actor, new InputGivenEntry(run), Caller.Of(context).Who);
        return Reply.Of(
            new Answer
            {
                Code = effect.Failed ? AnswerCode.InputNotGiven : AnswerCode.InputGiven,
                CameTrue = !effect.Failed,
                Said = $"{actor.Definition.Title} was given {(effect.Failed ? "nothing" : "it")}: {effect.Answer}.",
            }
        );
    }

    /// <summary>Join a terminal by a ticket, as a WebSocket.</summary>
    /// <param name="ticket">As it was given, unused.</param>
    /// <param name="place">To go on where an earlier view ended, in the same run.</param>
    /// <param name="run">That run.</param>
    /// <param name="acknowledges">It says what it has shown, and is sent only so much beyond.</param>
    public static async Task<IResult> Join(
        string? ticket,
        long? place,
        long? run,
        bool? acknowledges,
        Tickets tickets,
        TerminalRoom room,
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
                "A terminal is joined by a WebSocket (RFC 6455).",
                "calm terminal NAME"
            );
        if (
            tickets.Use(ticket, TicketFor.Terminal) is not { } held
            || !held.IsItsOwner(context, sessions)
            || registry.All.FirstOrDefault(one => one.Id == held.Service) is not { } service
        )
            return Problems.BadTicket();
        using var over = CancellationTokenSource.CreateLinkedTokenSource(
            context.RequestAborted,
            life.ApplicationStopping
        );
        using var socket = await Views.Accept(context).ConfigureAwait(false);
        using var seat = room.Join(service, held.Caller.Who, held.Acts);
        using var view = new TerminalView(socket, seat, room, new(held.Acts, acknowledges == true), clocks);
        await view.Show((run, place), () => registry.All.Contains(service) && held.Holds(sessions), over)
            .ConfigureAwait(false);
        return TypedResults.Empty;
    }
}
