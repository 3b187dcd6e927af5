using Microsoft.AspNetCore.Authorization;

namespace CalmSentry.Server.Doors;

/// <summary>
/// What a call needs whoever makes it to be allowed. Every endpoint names one; one that names none keeps the server
/// from starting.
/// </summary>
internal enum Permission
{
    /// <summary>Nothing: the console's own files, and using a sign-in link up.</summary>
    Anyone,

    /// <summary>To be a process of the service it is about: what programs say of themselves.</summary>
    OwnService,

    /// <summary>To have a ticket for it, which a caller with another permission was given: opening a terminal.</summary>
    Ticket,

    /// <summary>To see: states, output, records.</summary>
    Read,

    /// <summary>To start, stop and release what is defined.</summary>
    Operate,

    /// <summary>To say what runs, as whom, with which secrets.</summary>
    Define,

    /// <summary>To direct the sentry itself: accounts, rights on folders, sessions, the machine.</summary>
    Administer,
}

/// <summary>Permissions as the framework's own authorization has them: deny unless a policy says otherwise.</summary>
internal static class Permissions
{
    public static T May<T>(this T call, Permission permission)
        where T : IEndpointConventionBuilder
    {
        call.Add(endpoint =>
        {
            endpoint.Metadata.Add(Named.For(permission));
            endpoint.Metadata.Add(new AuthorizationPolicyBuilder().AddRequirements(Named.For(permission)).Build());
        });
        return call;
    }

    public static void AddPermissions(this IServiceCollection services)
    {
        services
            .AddAuthorizationBuilder()
            .SetFallbackPolicy(new AuthorizationPolicyBuilder().RequireAssertion(_ => false).Build());
        services.AddSingleton<IAuthorizationHandler, Judge>();
        services.AddSingleton<IAuthorizationMiddlewareResultHandler, Refusal>();
    }

    /// <summary>Routes that name no permission, or more than one: a server with such a route does not start.</summary>
    public static IReadOnlyList<string> Unnamed(IEnumerable<Endpoint> endpoints) =>
        [
            .. endpoints
                .Where(endpoint => endpoint.Metadata.GetOrderedMetadata<Named>().Count != 1)
                .Select(endpoint => endpoint.DisplayName ?? endpoint.ToString()!),
        ];

    public static Permission? Of(Endpoint endpoint) => endpoint.Metadata.GetMetadata<Named>()?.Permission;

    public static string InWords(Permission permission) =>
        permission == Permission.OwnService ? "own-service" : permission.ToString().ToLowerInvariant();

    /// <summary>In an endpoint's metadata: what it needs.</summary>
    public interface INamed
    {
        Permission Permission { get; }
    }

    private sealed class Named(Permission permission) : IAuthorizationRequirement, INamed
    {
        private static readonly Named[] All =
        [
            .. Enum.GetValues<Permission>().Select(permission => new Named(permission)),
        ];

        public Permission Permission => permission;

        public static Named For(Permission permission) => All[(int)permission];
    }

    private sealed class Judge : AuthorizationHandler<Named>
    {
        protected override Task HandleRequirementAsync(AuthorizationHandlerContext context, Named requirement)
        {
            if (
                context.Resource is HttpContext http
                && (
                    requirement.Permission == Permission.Anyone
                    || (
                        requirement.Permission == Permission.Ticket
                        && http.RequestServices.GetRequiredService<Tickets>().Holds(http.Request.Query["ticket"])
                    )
                    || Caller.Known(http)?.May(requirement.Permission) == true
                )
            )
                context.Succeed(requirement);
            return Task.CompletedTask;
        }
    }

    private sealed class Refusal : IAuthorizationMiddlewareResultHandler
    {
        public Task HandleAsync(
            RequestDelegate next,
            HttpContext context,
            AuthorizationPolicy policy,
            Microsoft.AspNetCore.Authorization.Policy.PolicyAuthorizationResult authorizeResult
        ) => authorizeResult.Succeeded ? next(context) : Door.Refuse(context);
    }
}
