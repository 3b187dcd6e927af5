using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Logbook;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.AspNetCore.Http.HttpResults;

namespace CalmSentry.Server.Api;

/// <summary>Browsers that are signed in: links that open a session, what is open, and the end of it.</summary>
internal static class SessionRoutes
{
    public static void MapSessions(this IEndpointRouteBuilder api)
    {
        api.MapPost("/sign-in-links", Link).May(Permission.Administer).Produces<SignInLink>(201).Refuses(409);
        api.MapPost("/sign-out", SignOut).May(Permission.Read).Produces(204);
        api.MapGet("/sessions", List).May(Permission.Administer).Produces<IReadOnlyList<SessionView>>();
        api.MapDelete("/sessions/{id}", End).May(Permission.Administer).Produces<Answer>().Refuses(404);
    }

    /// <summary>A link that signs one browser in, once, within five minutes.</summary>
    public static IResult Link(Sessions sessions, SentrySelf self, HttpContext context)
    {
        if (self.Console.Length == 0)
            return Problems.Of(
                409,
                ProblemCode.NoConsole,
                "No console",
                "This sentry serves no console; its logbook says why.",
                "calm logbook"
            );
        return sessions.NewLink(Caller.Of(context).Name) is var (key, until)
            ? TypedResults.Json(
                new SignInLink($"{self.Console}sign-in?key={key}", until),
                ApiJson.Plain.SignInLink,
                statusCode: 201
            )
            : Problems.Of(
                409,
                ProblemCode.TooManyLinks,
                "Too many links",
                $"{Sessions.MostLinks} sign-in links are waiting to be used.",
                $"Use one of them, or wait {Sessions.LinkLife.TotalMinutes:0} min until they are void."
            );
    }

    /// <summary>End this browser's session.</summary>
    public static NoContent SignOut(Sessions sessions, Record logbook, HttpContext context)
    {
        if (sessions.Of(context.Request) is { } session && sessions.End(session.Id, context) is not null)
            logbook.Note(new SignedOutEntry(session.Id), new Principal(session.Account));
        context.Response.Cookies.Delete(Sessions.Cookie);
        return TypedResults.NoContent();
    }

    /// <summary>Browsers that are signed in, the latest used first.</summary>
    public static JsonHttpResult<IReadOnlyList<SessionView>> List(Sessions sessions, HttpContext context)
    {
        var own = sessions.Of(context.Request)?.Id;
        return TypedResults.Json<IReadOnlyList<SessionView>>(
            [
                .. sessions.Open.Select(session => new SessionView(
                    session.Id,
                    session.Account,
                    session.Agent,
                    session.Opened,
                    session.Used,
                    session.Until,
                    session.Id == own
                )),
            ],
            ApiJson.Plain.IReadOnlyListSessionView
        );
    }

    /// <summary>End one browser's session.</summary>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> End(
        string id,
        bool? dry,
        Sessions sessions,
        SentryStore store,
        Record logbook,
        HttpContext context
    )
    {
        if (dry == true && sessions.Open.FirstOrDefault(one => one.Id == id) is { } open)
            return Reply.WouldDo($"The session {id} of {open.Account} would be ended. Nothing was done.");
        if (sessions.End(id, context) is not { } session)
            return Problems.Of(
                404,
                ProblemCode.NoSuchSession,
                "No such session",
                $"There is no open session {id}.",
                "'calm host sessions' shows those there are."
            );
        logbook.Note(new SessionEndedEntry(id, session.Account), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            AnswerCode.SessionEnded,
            $"The session {id} of {session.Account} is ended: that browser has to be signed in again."
        );
    }
}
