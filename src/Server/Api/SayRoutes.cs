using CalmSentry.Server.Doors;
using Microsoft.AspNetCore.Http.HttpResults;

namespace CalmSentry.Server.Api;

/// <summary>
/// What programs say of themselves, each on its own service's socket, whose path is in its variable CALM_SAY.
/// </summary>
internal static class SayRoutes
{
    private const int LongestText = 500,
        MostBytes = 4096;

    public static void MapSay(this WebApplication app) =>
        app.Map(Door.OwnService + "/{**word}", Hear).May(Permission.OwnService).ExcludeFromDescription();

    private static async Task<IResult> Hear(string? word, HttpContext context)
    {
        if (word is not ("serves" or "well" or "says"))
            return Say(404, "There are: /serves, /well, /says; a body is shown as what it says of itself.");
        var (text, problem) = await Incoming.Text(context.Request, MostBytes).ConfigureAwait(false);
        if (problem is not null)
            return problem;
        text = text!.Trim();
        if (text.Length > LongestText)
            return Say(413, $"What it says has at most {LongestText} characters.");
        context
            .Features.Get<DoorWord>()!
            .Service!.Says(word == "serves", word != "says", text.Length > 0 ? text.ReplaceLineEndings(" ") : null);
        return Say(200, "Heard.");
    }

    private static ContentHttpResult Say(int status, string text) =>
        TypedResults.Text(text + "\n", "text/plain; charset=utf-8", statusCode: status);
}
