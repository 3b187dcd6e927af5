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
        // With figures it is another each time, and nobody's again.
        var mayBeKept = !views.Any(view => view.Usage is not null);
        if (mayBeKept && last is { } known && known.Views.SequenceEqual(views, ReferenceEqualityComparer.Instance))
        {
            var text = known.Text ??= Whole();
            httpContext.Response.ContentLength = text.Length;
            await httpContext.Response.Body.WriteAsync(text, httpContext.RequestAborted).ConfigureAwait(false);
            return;
        }

        if (mayBeKept)
            last = new(views);
        var texts = Texts(out var length);
        var room = ArrayPool<byte>.Shared.Rent(length);
        try
        {
            Join(texts, room);
            httpContext.Response.ContentLength = length;
            await httpContext
                .Response.Body.WriteAsync(room.AsMemory(0, length), httpContext.RequestAborted)
                .ConfigureAwait(false);
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(room);
        }
    }

    /// <summary>What was asked for last. Its whole text is kept from the second time on: while much changes none is asked for twice.</summary>
    private sealed class Asked(IReadOnlyList<ServiceView> views)
    {
        public IReadOnlyList<ServiceView> Views { get; } = views;

        public byte[]? Text { get; set; }
    }

    private static volatile Asked? last;

    private byte[] Whole()
    {
        var texts = Texts(out var length);
        var whole = new byte[length];
        Join(texts, whole);
        return whole;
    }

    private List<byte[]> Texts(out int length)
    {
        var texts = views.Select(Of).ToList();
        length = texts.Sum(text => text.Length) + Math.Max(2, texts.Count + 1); // brackets, and commas between
        return texts;
    }

    private static void Join(List<byte[]> texts, byte[] whole)
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
    }

    private static byte[] Of(ServiceView view) =>
        view.Usage is not null
            ? JsonSerializer.SerializeToUtf8Bytes(view, ApiJson.Plain.ServiceView)
            : kept.GetValue(view, one => JsonSerializer.SerializeToUtf8Bytes(one, ApiJson.Plain.ServiceView));
}
