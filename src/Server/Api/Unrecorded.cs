using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Background;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>
/// While the store cannot be written: every answer says so, here or in itself; seeing, starting and stopping go on; what would change
/// definitions, secrets or accounts is refused at once, for nobody could be told that it is kept.
/// </summary>
internal static class Unrecorded
{
    /// <summary>In an endpoint's metadata: it changes what must be on record. Of its calls those that only look go on.</summary>
    public sealed class Refused;

    /// <summary>In an endpoint's metadata: its answer itself says so.</summary>
    public sealed class Told;

    /// <summary>Written before a change, to see whether anything can be.</summary>
    private const string TriedFact = "tried";

    public static async Task Watch(SentryStore store, Clocks clocks, HttpContext context, RequestDelegate next)
    {
        if (
            !HttpMethods.IsGet(context.Request.Method)
            && context.GetEndpoint()?.Metadata.GetMetadata<Refused>() is not null
        )
        {
            // The first change that a full disk meets is refused like those after it: nobody is told of what is then lost.
            if (store.Failure is null && context.Request.Query["dry"] != "true")
            {
                store.SetFact(TriedFact, clocks.Now.ToString("O", CultureInfo.InvariantCulture));
                await store.Kept().ConfigureAwait(false);
            }

            if (store.Failure is { } failure)
            {
                await Refusal(failure).ExecuteAsync(context).ConfigureAwait(false);
                return;
            }
        }

        if (context.GetEndpoint()?.Metadata.GetMetadata<Told>() is not null)
        {
            await next(context).ConfigureAwait(false);
            return;
        }

        context.Response.OnStarting(() =>
        {
            if (store.Failure is { } unwritten)
                context.Response.Headers[OwnHeaders.NotRecorded] = string.Concat(
                    unwritten.Where(c => c is >= ' ' and < '\x7f')
                );
            return Task.CompletedTask;
        });
        await next(context).ConfigureAwait(false);
    }

    /// <param name="failure">Why the store cannot be written.</param>
    public static IResult Refusal(string failure) =>
        Problems.Of(
            StatusCodes.Status503ServiceUnavailable,
            ProblemCode.StoreCannotBeWritten,
            "The store cannot be written",
            $"The store cannot be written: {failure.TrimEnd('.')}. Nothing was changed.",
            "'calm host status' says when it can again; seeing, starting and stopping go on meanwhile. A full disk "
                + "needs room, a store that another program holds needs that program to let go."
        );
}
