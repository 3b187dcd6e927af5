using System.Text;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Definitions;

namespace CalmSentry.Server.Http;

/// <summary>The one way to read what a caller sends: so many bytes, within so much time, text that is text.</summary>
internal static class Incoming
{
    /// <summary>Longest body where nothing else is said, in bytes.</summary>
    public const int Longest = 64 << 10;

    /// <summary>Longest definition, in bytes.</summary>
    public const int LongestDefinition = 1 << 20;

    /// <summary>In an endpoint's metadata: its bodies may be so long, in bytes.</summary>
    public sealed record UpTo(long? MaxRequestBodySize) : Microsoft.AspNetCore.Http.Metadata.IRequestSizeLimitMetadata;

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    private static readonly UTF8Encoding Strict = new(false, throwOnInvalidBytes: true);

    /// <returns>The body as text, or the answer to whoever sent something else.</returns>
    public static async Task<(string? Text, IResult? Problem)> Text(HttpRequest request, int longest = Longest)
    {
        if (request.ContentLength > longest)
            return (null, TooLong(longest));
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(request.HttpContext.RequestAborted);
        limit.CancelAfter(Patience);
        var room = new byte[Math.Min(longest + 1, Math.Max(512, (int)(request.ContentLength ?? 4096) + 1))];
        var length = 0;
        try
        {
            for (
                int got;
                (got = await request.Body.ReadAsync(room.AsMemory(length), limit.Token).ConfigureAwait(false)) > 0;

            )
            {
                length += got;
                if (length > longest)
                    return (null, TooLong(longest));
                if (length == room.Length)
                    Array.Resize(ref room, Math.Min(longest + 1, room.Length * 2));
            }

            var text = Strict.GetString(room, 0, length);
            return text.Contains('\0', StringComparison.Ordinal) ? (null, NoText("NUL")) : (text, null);
        }
        catch (DecoderFallbackException)
        {
            return (null, NoText("bytes that are no UTF-8"));
        }
        catch (OperationCanceledException) when (!request.HttpContext.RequestAborted.IsCancellationRequested)
        {
            return (
                null,
                Problems.Of(
                    408,
                    ProblemCode.BodyTooSlow,
                    "Too slow",
                    $"The body did not come within {Patience.TotalSeconds:0} s.",
                    "Send it again."
                )
            );
        }
    }

    /// <returns>The body as that type, or the answer to whoever sent something else. What was wrong is not repeated: it
    /// may hold a secret.</returns>
    public static async Task<(T? Value, IResult? Problem)> Json<T>(
        HttpRequest request,
        JsonTypeInfo<T> type,
        string wanted,
        int longest = Longest
    )
        where T : class
    {
        var (text, problem) = await Text(request, longest).ConfigureAwait(false);
        if (problem is not null)
            return (null, problem);
        try
        {
            if (JsonSerializer.Deserialize(text!, type) is { } value)
                return (value, null);
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException)
        {
            // Told below.
        }

        return (
            null,
            Problems.Of(
                400,
                ProblemCode.MalformedBody,
                "Not what this call takes",
                $"The body is not {wanted}.",
                "Send a JSON object with these keys."
            )
        );
    }

    /// <summary>Refuses addresses that mean nothing: NUL or half a character in the path or the query.</summary>
    public static Task Watch(HttpContext context, RequestDelegate next)
    {
        var odd =
            Odd(context.Request.Path.Value) || context.Request.Query.Any(pair => Odd(pair.Key) || pair.Value.Any(Odd));
        return odd
            ? Problems
                .Of(
                    400,
                    ProblemCode.BadAddress,
                    "Not an address",
                    "The path or the query holds NUL, or bytes that are no UTF-8; allowed is text in UTF-8.",
                    "Mend the address."
                )
                .ExecuteAsync(context)
            : next(context);
    }

    /// <summary>Of an address also what stands for bytes that were no UTF-8.</summary>
    public static bool Odd(string? text) =>
        text is not null && (text.Contains('\uFFFD', StringComparison.Ordinal) || NodeBounds.IsNoText(text));

    private static IResult TooLong(int longest) =>
        Problems.Of(
            413,
            ProblemCode.BodyTooLong,
            "Too long",
            $"The body is longer than the {longest} bytes allowed.",
            "Send less."
        );

    private static IResult NoText(string found) =>
        Problems.Of(
            400,
            ProblemCode.MalformedBody,
            "Not a text",
            $"The body holds {found}; allowed is text in UTF-8.",
            "Mend it and send it again."
        );
}
