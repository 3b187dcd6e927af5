using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Logbook;
using CalmSentry.Linux.Accounts;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Doors;

/// <summary>
/// Tells who asks. What that caller may do is decided by the route's permission, not here. On loopback TCP, Host and
/// Origin
/// are checked too, so that no page of another site or another port can speak through somebody's browser.
/// </summary>
internal static class Door
{
    /// <summary>
    /// Where calls of programs are routed to, so that no path means one thing here and another there.
    /// </summary>
    public const string OwnService = "/own-service";

    public static async Task Watch(HttpContext context, RequestDelegate next)
    {
        if (context.Features.Get<DoorWord>() is not { } word)
        {
            context.Abort(); // nobody knows how it came in
            return;
        }

        switch (word.Door)
        {
            case DoorKind.Api:
                Of(word).AttachTo(context);
                break;
            case DoorKind.Say:
                new Caller(word.Service!.Definition.Account, CallerKind.Program).AttachTo(context);
                context.Request.Path = OwnService + context.Request.Path;
                break;
            default:
                if (Wrong(context) is { } problem)
                {
                    await problem.ExecuteAsync(context).ConfigureAwait(false);
                    return;
                }

                var sessions = context.RequestServices.GetRequiredService<Sessions>();
                if (sessions.AccountOf(context.Request) is { } account)
                {
                    new Caller(account, CallerKind.Session).AttachTo(context);
                    // What is open in a session, such as a stream of events, ends with it.
                    var ended = CancellationTokenSource.CreateLinkedTokenSource(
                        context.RequestAborted,
                        sessions.EndOf(context.Request)
                    );
                    context.Response.RegisterForDispose(ended);
                    context.RequestAborted = ended.Token;
                }

                break;
        }

        var caller = Caller.Known(context);
        if (
            caller is not { Kind: CallerKind.Sentry }
            && !context
                .RequestServices.GetRequiredService<Pace>()
                .Take(
                    word.Door == DoorKind.Say
                        ? word.Service!
                        : $"{word.Door} {caller?.Who.Name} {word.Uid} {SiteOf(context.Request)}",
                    word.Door
                )
        )
        {
            if (word.Service is { } service)
                service.SaysTooOften(Pace.Of(DoorKind.Say));
            context.Response.Headers.RetryAfter = "1";
            await Problems
                .Of(
                    429,
                    ProblemCode.TooManyCalls,
                    "Too many calls",
                    $"{caller?.Who.Name ?? "Your account"} calls more often than {Pace.Of(word.Door)} times a second; "
                        + $"this call was not looked at.",
                    "Wait a second, and call less often."
                )
                .ExecuteAsync(context)
                .ConfigureAwait(false);
            return;
        }

        await next(context).ConfigureAwait(false);
    }

    /// <summary>The answer to a caller whose permissions do not reach.</summary>
    public static Task Refuse(HttpContext context)
    {
        var services = context.RequestServices;
        if (context.GetEndpoint() is { } call && Permissions.Of(call) == Permission.Ticket)
            return Problems.BadTicket().ExecuteAsync(context);
        // Who asks again and again fills no logbook.
        if (
            Caller.Known(context) is { Kind: not CallerKind.Program } refused
            && services.GetRequiredService<Pace>().Take(("refused", refused.Account), 0.1, 1)
        )
            services
                .GetRequiredService<Record>()
                .Note(new RefusedEntry($"{context.Request.Method} {context.Request.Path}"), refused.Who);
        return (
            Caller.Known(context) switch
            {
                { Kind: CallerKind.Program } => Problems.Of(
                    404,
                    ProblemCode.NoSuchWord,
                    "No such word",
                    "There are: /serves, /well, /says; a body is shown as what it says of itself."
                ),
                { } known => Problems.NotPermitted(known.Account),
                null => Problems.SignInNeeded(),
            }
        ).ExecuteAsync(context);
    }

    /// <summary>
    /// Whose page a browser asks for (Fetch Metadata, Sec-Fetch-Site): what a page of another site makes it ask does not count against
    /// the person who sits there.
    /// </summary>
    private static string SiteOf(HttpRequest request) =>
        request.Headers["Sec-Fetch-Site"].ToString() is "cross-site" or "same-site" ? "another page's" : "its own";

    private static Caller Of(DoorWord word) =>
        new(
            word.Name,
            word.Uid is { } uid && Account.IsTrusted(uid) ? CallerKind.Sentry : CallerKind.Stranger,
            word.Login,
            word.From
        );

    private static IResult? Wrong(HttpContext context)
    {
        if (!IsLoopback(context.Request.Host.Host))
            return Problems.Of(
                400,
                ProblemCode.WrongHost,
                "Not this host",
                "The console answers only to localhost, 127.0.0.1 and [::1].",
                "Open the address that 'calm open' prints."
            );
        if (
            context.Request.Headers.Origin is { Count: > 0 } origin
            && origin != $"{context.Request.Scheme}://{context.Request.Host}"
        )
            return Problems.Of(
                403,
                ProblemCode.WrongOrigin,
                "Not from the console",
                $"A page of {origin} may not speak to this sentry."
            );
        return null;
    }

    private static bool IsLoopback(string host) => host is "localhost" or "127.0.0.1" or "[::1]" or "::1";
}
