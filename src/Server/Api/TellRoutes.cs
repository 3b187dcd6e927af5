using CalmSentry.Contract;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Services;
using CalmSentry.Server.SignIn;

namespace CalmSentry.Server.Api;

/// <summary>
/// What programs say of themselves, on a socket of its own whose path is in their variable CALM_TELL. The kernel says which
/// process calls, and its ancestors which service it belongs to: no program can speak for another.
/// </summary>
internal static class TellRoutes
{
    private const int LongestText = 500;

    public static void UseTell(this WebApplication app, Places places) => app.MapWhen(
        context => context.Features.Get<Caller.KernelWord>()?.Socket == places.TellSocket,
        tell => tell.Run(context => Hear(context, app.Services.GetRequiredService<Registry>())));

    private static async Task Hear(HttpContext context, Registry registry)
    {
        var word = context.Request.Path.Value?.Trim('/');
        if (ServiceOf(context.Features.Get<Caller.KernelWord>()!.Pid, registry) is not { } actor)
        {
            await Say(context, 403, "This socket is for programs that this sentry runs; you are none of them.").ConfigureAwait(false);
            return;
        }

        if (word is not ("ready" or "alive" or "status"))
        {
            await Say(context, 404, "There are: /ready, /alive, /status; a body is taken as a status text.").ConfigureAwait(false);
            return;
        }

        using var reader = new StreamReader(context.Request.Body);
        var text = (await reader.ReadToEndAsync(context.RequestAborted).ConfigureAwait(false)).Trim();
        if (text.Length > LongestText)
        {
            await Say(context, 413, $"A status text has at most {LongestText} characters.").ConfigureAwait(false);
            return;
        }

        actor.Tell(word == "ready", text.Length > 0 ? text.ReplaceLineEndings(" ") : null);
        await Say(context, 200, "Heard.").ConfigureAwait(false);
    }

    private static Task Say(HttpContext context, int status, string text)
    {
        context.Response.StatusCode = status;
        context.Response.ContentType = "text/plain; charset=utf-8";
        return context.Response.WriteAsync(text + "\n");
    }

    private static ServiceActor? ServiceOf(int pid, Registry registry)
    {
        var keepers = registry.All.Where(actor => actor.KeeperPid != 0).ToDictionary(actor => actor.KeeperPid);
        for (var at = pid; at > 1; at = ProcessFacts.Parent(at))
            if (keepers.TryGetValue(at, out var actor)) return actor;
        return null;
    }
}
