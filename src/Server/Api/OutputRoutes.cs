using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Output;
using Microsoft.AspNetCore.Http.Features;

namespace CalmSentry.Server.Api;

/// <summary>A service's output, byte for byte: the last lines, everything from an offset, and live.</summary>
internal static class OutputRoutes
{
    /// <summary>Readers that follow at the same time: each watches a directory, of which a host allows few.</summary>
    private const int MostFollowers = 64;

    private static int followers;

    public static void MapOutput(this IEndpointRouteBuilder api) =>
        api.OneService()
            .MapGet("/output", Output)
            .Produces<string>(200, "text/plain")
            .Refuses(404)
            .May(Permission.Read);

    /// <summary>Output: ?last=N lines (20), or ?from=BYTE; ?follow=true goes on live.</summary>
    public static async Task<IResult> Output(
        Called called,
        int? last,
        long? from,
        bool? follow,
        Places places,
        IHostApplicationLifetime life,
        HttpContext context
    )
    {
        if (last is < 0 or > 1_000_000 || from is < 0)
            return Problems.Of(
                400,
                "bad-range",
                "Not a range",
                $"last is {last}, from is {from}; allowed: last from 0 to 1000000 lines, from at " + $"least 0 bytes.",
                "Leave both out for the last 20 lines."
            );
        if (follow == true && Volatile.Read(ref followers) >= MostFollowers)
            return Problems.Of(
                503,
                "too-many-streams",
                "Too many streams",
                $"{MostFollowers} readers follow the output of services, as many as there may be.",
                "Close some: each 'calm output --follow' and each open page of a service is one."
            );
        var path = places.OutputOf(called.Service.Definition.Name);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        var offset = from ?? 0;
        if (from is null && File.Exists(path))
        {
            await using var file = OutputFile.Open(path);
            offset = OutputFile.StartOfLast(file, last ?? 20);
        }

        context.Response.ContentType = "text/plain; charset=utf-8";
        context.Response.Headers[OwnHeaders.Offset] = offset.ToString(CultureInfo.InvariantCulture);
        context.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        await context.Response.StartAsync(context.RequestAborted).ConfigureAwait(false);
        await context.Response.BodyWriter.FlushAsync(context.RequestAborted).ConfigureAwait(false);
        using var over = CancellationTokenSource.CreateLinkedTokenSource(
            context.RequestAborted,
            life.ApplicationStopping
        );
        if (follow == true)
            Interlocked.Increment(ref followers);
        try
        {
            await OutputFile
                .Copy(path, offset, follow ?? false, context.Response.BodyWriter, over.Token)
                .ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            // The reader has gone, or the sentry is about to.
        }
        finally
        {
            if (follow == true)
                Interlocked.Decrement(ref followers);
        }

        return TypedResults.Empty;
    }
}
