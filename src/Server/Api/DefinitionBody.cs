using Microsoft.OpenApi;

namespace CalmSentry.Server.Api;

/// <summary>Calls with a body, described.</summary>
internal static class DefinitionBody
{
    /// <summary>
    /// A definition, as JSON or YAML. Described by hand: metadata would make routing refuse every other content type,
    /// and curl -d sends another.
    /// </summary>
    public static RouteHandlerBuilder TakesDefinition(this RouteHandlerBuilder call) =>
        call.AddOpenApiOperationTransformer(
            (operation, _, _) =>
            {
                var content = new OpenApiMediaType { Schema = new OpenApiSchema { Type = JsonSchemaType.Object } };
                operation.RequestBody = new OpenApiRequestBody
                {
                    Required = true,
                    Content = new Dictionary<string, OpenApiMediaType>
                    {
                        ["application/json"] = content,
                        ["application/yaml"] = content,
                    },
                };
                return Task.CompletedTask;
            }
        );

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
