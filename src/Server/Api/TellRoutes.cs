using CalmSentry.Server.Doors;
using Microsoft.AspNetCore.Http.HttpResults;

namespace CalmSentry.Server.Api;

/// <summary>
/// What programs say of themselves, each on its own service's socket, whose path is in its variable CALM_TELL.
/// </summary>
internal static class TellRoutes
{
    private const int LongestText = 500,
        MostBytes = 4096;

    public static void MapTell(this WebApplication app) =>
        app.Map(Door.OwnService + "/{**word}", Hear).May(Permission.OwnService).ExcludeFromDescription();

    private static async Task<IResult> Hear(string? word, HttpContext context)
    {
        if (word is not ("ready" or "alive" or "status"))
            return Say(404, "There are: /ready, /alive, /status; a body is taken as a status text.");
        var (text, problem) = await Incoming.Text(context.Request, MostBytes).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        text = text!.Trim();
        if (text.Length > LongestText)
            return Say(413, $"A status text has at most {LongestText} characters.");
        context
            .Features.Get<DoorWord>()!
            .Service!.Tell(word == "ready", text.Length > 0 ? text.ReplaceLineEndings(" ") : null);
        return Say(200, "Heard.");
    }

    private static ContentHttpResult Say(int status, string text) =>
        TypedResults.Text(text + "\n", "text/plain; charset=utf-8", statusCode: status);
}
