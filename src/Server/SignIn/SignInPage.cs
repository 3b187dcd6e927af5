using CalmSentry.Server.Doors;

namespace CalmSentry.Server.SignIn;

/// <summary>
/// Uses a one-time link up and sends the browser to the console, with its two secrets: one as cookie, one for the page
/// alone.
/// </summary>
internal static class SignInPage
{
    public static IResult Use(string? key, Sessions sessions, HttpContext context)
    {
        if (
            key is null
            || sessions.Use(
                key,
                context.Request.Headers.UserAgent,
                context.Features.Get<DoorWord>()?.Uid ?? uint.MaxValue
            )
                is not { } opened
        )
            return TypedResults.Redirect("/?link=used");
        context.Response.Cookies.Append(
            Sessions.Cookie,
            opened.Cookie,
            new CookieOptions
            {
                HttpOnly = true,
                SameSite = SameSiteMode.Strict,
                Path = "/",
                MaxAge = Sessions.SessionLife,
                IsEssential = true,
            }
        );
        // A fragment is never sent to any server; the page takes it out of the address at once.
        return TypedResults.Redirect($"/#page={opened.Page}");
    }
}
