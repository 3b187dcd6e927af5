using CalmSentry.Contract;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>The service that a call's path names, by its short name or title.</summary>
/// <param name="Name">As it stands in the path.</param>
/// <param name="Unreadable">It is one whose stored definition cannot be read.</param>
internal sealed record Called(string Name, ServiceActor? Found, string? Nearest, Unreadable? Unreadable)
{
    /// <summary>Of a call that also takes what cannot be read.</summary>
    public sealed record Mends;

    /// <summary>There is one: a call about one that is not there never comes to its handler.</summary>
    public ServiceActor Service => Found!;

    public static ValueTask<Called> BindAsync(HttpContext context)
    {
        // A slash is the one character that routing leaves as it is written.
        var name = (context.Request.RouteValues["name"] as string ?? "").Replace(
            "%2F",
            "/",
            StringComparison.OrdinalIgnoreCase
        );
        var registry = context.RequestServices.GetRequiredService<Registry>();
        var found = registry.Find(name);
        return ValueTask.FromResult(
            new Called(
                name,
                found,
                found is null ? registry.Nearest(name) : null,
                found is null ? registry.UnreadableOf(name) : null
            )
        );
    }

    /// <summary>For calls about one service: 404 when there is none of that name.</summary>
    public static async ValueTask<object?> OrNotFound(
        EndpointFilterInvocationContext context,
        EndpointFilterDelegate next
    )
    {
        foreach (var argument in context.Arguments)
        {
            if (argument is Called { Unreadable: { } unreadable })
            {
                if (context.HttpContext.GetEndpoint()?.Metadata.GetMetadata<Mends>() is null)
                    return Problems.Unreadable(
                        unreadable,
                        context.HttpContext.RequestServices.GetRequiredService<Places>()
                    );
            }
            else if (argument is Called { Found: null } called)
                return Problems.NoSuchService(
                    called.Name,
                    called.Nearest,
                    context.HttpContext.RequestServices.GetRequiredService<Registry>().RenamedTo(called.Name)
                );
        }

        return await next(context).ConfigureAwait(false);
    }
}
