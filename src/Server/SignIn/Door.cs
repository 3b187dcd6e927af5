using CalmSentry.Server.Api;

namespace CalmSentry.Server.SignIn;

/// <summary>
/// Who may come in. On the Unix socket the kernel says who calls. On loopback TCP a session is needed for everything under
/// /api; Host and Origin are checked there, so that no page of another site can speak through somebody's browser.
/// </summary>
internal static class Door
{
    public static async Task Watch(HttpContext context, RequestDelegate next)
    {
        var api = context.Request.Path.StartsWithSegments("/api", StringComparison.Ordinal);
        if (Caller.ByKernel(context) is { } known)
        {
            known.AttachTo(context);
            if (known.MayAct) await next(context).ConfigureAwait(false);
            else await Problems.NotPermitted(known.Account).ExecuteAsync(context).ConfigureAwait(false);
            return;
        }

        if (!IsLoopback(context.Request.Host.Host))
        {
            await Problems.Of(400, "wrong-host", "Not this host", "The console answers only to localhost, 127.0.0.1 and [::1].", "Open the address that 'calm open' prints.").ExecuteAsync(context).ConfigureAwait(false);
            return;
        }

        if (context.Request.Headers.Origin is { Count: > 0 } origin && origin != $"{context.Request.Scheme}://{context.Request.Host}")
        {
            await Problems.Of(403, "wrong-origin", "Not from the console", $"A page of {origin} may not speak to this sentry.").ExecuteAsync(context).ConfigureAwait(false);
            return;
        }

        if (api)
        {
            if (context.RequestServices.GetRequiredService<Sessions>().AccountOf(context.Request.Cookies[Sessions.Cookie]) is not { } account)
            {
                await Problems.SignInNeeded().ExecuteAsync(context).ConfigureAwait(false);
                return;
            }

            new Caller(account, ByConsole: true, MayAct: true).AttachTo(context);
        }

        await next(context).ConfigureAwait(false);
    }

    /// <summary>Uses a one-time link up and sends the browser to the console.</summary>
    public static IResult SignIn(string? key, Sessions sessions, HttpContext context)
    {
        if (key is null || sessions.Open(key) is not { } opened) return TypedResults.Redirect("/?link=used");
        context.Response.Cookies.Append(Sessions.Cookie, opened.Secret, new CookieOptions
        {
            HttpOnly = true,
            SameSite = SameSiteMode.Strict,
            Path = "/",
            MaxAge = Sessions.SessionLife,
            IsEssential = true,
        });
        return TypedResults.Redirect("/");
    }

    private static bool IsLoopback(string host) => host is "localhost" or "127.0.0.1" or "[::1]" or "::1";
}
