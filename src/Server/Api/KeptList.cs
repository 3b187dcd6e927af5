using System.Buffers;
using System.Runtime.CompilerServices;
using System.Text.Json;
using CalmSentry.Contract.Api;
using Microsoft.AspNetCore.Http.Metadata;

namespace CalmSentry.Server.Api;

/// <summary>
/// The list of services as it goes over the wire: of each the text is made once, when somebody asks after it has changed, and sent as it
/// is until it changes again.
/// </summary>
internal sealed class KeptList(IReadOnlyList<ServiceView> views) : IResult, IEndpointMetadataProvider
{
    /// <summary>A view is replaced whole: what was made of one goes with it.</summary>
    private static readonly ConditionalWeakTable<ServiceView, byte[]> kept = new();

    public static void PopulateMetadata(System.Reflection.MethodInfo method, EndpointBuilder builder) =>
        builder.Metadata.Add(
            new ProducesResponseTypeMetadata(200, typeof(IReadOnlyList<ServiceView>), ["application/json"])
        );

    public async Task ExecuteAsync(HttpContext httpContext)
    {
        httpContext.Response.ContentType = "application/json; charset=utf-8";
        var to = httpContext.Response.BodyWriter;
        to.Write("["u8);
        for (var i = 0; i < views.Count; i++)
        {
            if (i > 0)
                to.Write(","u8);
            to.Write(Of(views[i]));
        }

        to.Write("]"u8);
        await to.FlushAsync(httpContext.RequestAborted).ConfigureAwait(false);
    }

    private static byte[] Of(ServiceView view) =>
        // One that is looked at for this call alone is nobody's again.
        view.Usage
            is not null
            ? JsonSerializer.SerializeToUtf8Bytes(view, ApiJson.Plain.ServiceView)
            : kept.GetValue(view, one => JsonSerializer.SerializeToUtf8Bytes(one, ApiJson.Plain.ServiceView));
}
