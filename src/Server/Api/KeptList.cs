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
        var texts = views.Select(Of).ToList();
        var length = texts.Sum(text => text.Length) + Math.Max(2, texts.Count + 1); // brackets, and commas between
        var whole = ArrayPool<byte>.Shared.Rent(length);
        try
        {
            var at = 0;
            whole[at++] = (byte)'[';
            foreach (var text in texts)
            {
                if (at > 1)
                    whole[at++] = (byte)',';
                text.CopyTo(whole, at);
                at += text.Length;
            }

            whole[at] = (byte)']';
            httpContext.Response.ContentType = "application/json; charset=utf-8";
            await httpContext
                .Response.Body.WriteAsync(whole.AsMemory(0, length), httpContext.RequestAborted)
                .ConfigureAwait(false);
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(whole);
        }
    }

    private static byte[] Of(ServiceView view) =>
        // One that is looked at for this call alone is nobody's again.
        view.Usage
            is not null
            ? JsonSerializer.SerializeToUtf8Bytes(view, ApiJson.Plain.ServiceView)
            : kept.GetValue(view, one => JsonSerializer.SerializeToUtf8Bytes(one, ApiJson.Plain.ServiceView));
}
