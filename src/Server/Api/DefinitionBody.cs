using Microsoft.OpenApi;

namespace CalmSentry.Server.Api;

/// <summary>Calls whose body is a definition, as JSON or YAML.</summary>
internal static class DefinitionBody
{
    /// <summary>Described by hand: metadata would make routing refuse every other content type, and curl -d sends another.</summary>
    public static RouteHandlerBuilder TakesDefinition(this RouteHandlerBuilder call) => call.AddOpenApiOperationTransformer((operation, _, _) =>
    {
        var content = new OpenApiMediaType { Schema = new OpenApiSchema { Type = JsonSchemaType.Object } };
        operation.RequestBody = new OpenApiRequestBody { Required = true, Content = new Dictionary<string, OpenApiMediaType> { ["application/json"] = content, ["application/yaml"] = content } };
        return Task.CompletedTask;
    });
}
