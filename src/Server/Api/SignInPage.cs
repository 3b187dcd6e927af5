using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Logbook;
using CalmSentry.Linux.Accounts;
using CalmSentry.Server.Doors;

namespace CalmSentry.Server.Api;

/// <summary>
/// Uses a one-time link up and sends the browser to the console, with its two secrets: one as cookie, one for the page
/// alone.
/// </summary>
internal static class SignInPage
{
    public static IResult Use(string? key, Sessions sessions, Pace pace, Record logbook, HttpContext context)
    {
        var uid = context.Features.Get<DoorWord>()?.Uid ?? uint.MaxValue;
        if (key is null || sessions.Use(key, context.Request.Headers.UserAgent) is not { } opened)
        {
            // Who guesses fills no logbook.
            if (key is not null && pace.Take(("link", uid), 0.1, 1))
                logbook.Note(
                    new SignInRefusedEntry(
                        $"a link that was never given, was used, or is too old, from {Account.NameOf(uid)}"
                    )
                );
            return TypedResults.Redirect("/?link=used");
        }

        logbook.Note(
            new SignedInEntry(
                opened.Session.Id,
                opened.Session.Agent.Length == 0 ? "a browser that says no name" : opened.Session.Agent
            ),
            new Principal(opened.Session.Account, From: Caller.Console)
        );
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
