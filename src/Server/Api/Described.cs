using CalmSentry.Contract.Api;
using Microsoft.OpenApi;

namespace CalmSentry.Server.Api;

/// <summary>What calls take and how they refuse, described.</summary>
internal static class Described
{
    /// <summary>
    /// A definition, as JSON or YAML. Described by hand: metadata would make routing refuse every other content type,
    /// and curl -d sends another.
    /// </summary>
    public static RouteHandlerBuilder TakesDefinition(this RouteHandlerBuilder call) =>
        call.Takes("application/json", "application/yaml");

    /// <summary>The sentry's settings, as their file has them.</summary>
    public static RouteHandlerBuilder TakesSettings(this RouteHandlerBuilder call) => call.Takes("application/yaml");

    private static RouteHandlerBuilder Takes(this RouteHandlerBuilder call, params IEnumerable<string> types) =>
        call.AddOpenApiOperationTransformer(
            (operation, _, _) =>
            {
                var content = new OpenApiMediaType { Schema = new OpenApiSchema { Type = JsonSchemaType.Object } };
                operation.RequestBody = new OpenApiRequestBody
                {
                    Required = true,
                    Content = types.ToDictionary(type => type, _ => content),
                };
                return Task.CompletedTask;
            }
        );

    /// <summary>Statuses that come with a problem (RFC 9457), beside those every call may have.</summary>
    public static T Refuses<T>(this T call, params IEnumerable<int> statuses)
        where T : IEndpointConventionBuilder
    {
        foreach (var status in statuses)
            call.WithMetadata(new ProducesResponseTypeMetadata(status, typeof(Problem), ["application/problem+json"]));
        return call;
    }

    /// <summary>A call whose body is JSON of one type; what else is sent is answered by the call itself.</summary>
    public static RouteHandlerBuilder TakesJson<T>(this RouteHandlerBuilder call) =>
        call.AddOpenApiOperationTransformer(
            async (operation, context, cancellation) =>
            {
                var schema = await context.GetOrCreateSchemaAsync(typeof(T), null, cancellation).ConfigureAwait(false);
                operation.RequestBody = new OpenApiRequestBody
                {
                    Required = true,
                    Content = new Dictionary<string, OpenApiMediaType>
                    {
                        ["application/json"] = new() { Schema = schema },
                    },
                };
            }
        );
}
