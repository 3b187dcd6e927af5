using System.Text.Json.Nodes;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Server.Doors;
using Microsoft.AspNetCore.OpenApi;
using Microsoft.OpenApi;

namespace CalmSentry.Server.Api;

/// <summary>
/// The API's own description (OpenAPI 3.1): beside what the framework writes, the permission each call needs.
/// </summary>
internal static class Description
{
    /// <summary>
    /// Of a call: its permission. Of the document: calls that are not described, such as the console's page, with
    /// theirs.
    /// </summary>
    private const string Permission = "x-permission",
        Undescribed = "x-undescribed";

    public static void Of(OpenApiOptions options)
    {
        options.AddOperationTransformer(
            (operation, context, _) =>
            {
                foreach (
                    var part in (context.Description.RelativePath ?? "").Split('/').Where(part => part == "{name}")
                )
                    Describe(operation, part.Trim('{', '}'));
                var needed = context
                    .Description.ActionDescriptor.EndpointMetadata.OfType<Permissions.INamed>()
                    .Single()
                    .Permission;
                (operation.Extensions ??= new Dictionary<string, IOpenApiExtension>())[Permission] =
                    new JsonNodeExtension(Permissions.InWords(needed));
                return Task.CompletedTask;
            }
        );
        options.AddSchemaTransformer(
            (schema, context, _) =>
            {
                if (context.JsonTypeInfo.Type == typeof(ProblemWord))
                    (schema.Type, schema.Enum) = (
                        JsonSchemaType.String,
                        [.. ProblemWord.All.Select(word => (JsonNode)word)]
                    );
                if (context.JsonTypeInfo.Type == typeof(Topic))
                    (schema.Extensions ??= new Dictionary<string, IOpenApiExtension>())["x-words"] =
                        new JsonNodeExtension(TopicsInWords());
                return Task.CompletedTask;
            }
        );
        options.AddDocumentTransformer(
            (document, context, _) =>
            {
                document.Info.Title = "Calm Sentry";
                document.Info.Version = SentrySelf.Version;
                document.Servers?.Clear();
                var others = context
                    .ApplicationServices.GetRequiredService<EndpointDataSource>()
                    .Endpoints.OfType<RouteEndpoint>()
                    .Where(endpoint =>
                        endpoint.Metadata.GetMetadata<IExcludeFromDescriptionMetadata>()?.ExcludeFromDescription == true
                    )
                    .Select(endpoint => new JsonObject
                    {
                        ["path"] = endpoint.RoutePattern.RawText,
                        ["methods"] = new JsonArray([
                            .. (endpoint.Metadata.GetMetadata<IHttpMethodMetadata>()?.HttpMethods ?? ["GET"]).Select(
                                method => JsonValue.Create(method)
                            ),
                        ]),
                        [Permission] = Permissions.InWords(Permissions.Of(endpoint)!.Value),
                    });
                (document.Extensions ??= new Dictionary<string, IOpenApiExtension>())[Undescribed] =
                    new JsonNodeExtension(new JsonArray([.. others]));
                return Task.CompletedTask;
            }
        );
    }

    /// <summary>What each topic is told for, and whether it can wait.</summary>
    private static JsonObject TopicsInWords() =>
        new(
            Enum.GetValues<Topic>()
                .Select(topic =>
                    KeyValuePair.Create<string, JsonNode?>(
                        Words.Of(topic),
                        new JsonObject
                        {
                            ["means"] = Topics.Of(topic).Meaning,
                            ["urgency"] = Words.Of(Topics.Of(topic).Urgency),
                        }
                    )
                )
        );

    /// <summary>Of a path: a service's name is bound together with the service, which the framework does not see.</summary>
    private static void Describe(OpenApiOperation operation, string parameter)
    {
        operation.Parameters ??= [];
        if (operation.Parameters.Any(known => known.Name == parameter))
            return;
        operation.Parameters.Insert(
            0,
            new OpenApiParameter
            {
                Name = parameter,
                In = ParameterLocation.Path,
                Required = true,
                Description = "A short name, or a title.",
                Schema = new OpenApiSchema { Type = JsonSchemaType.String },
            }
        );
    }
}
