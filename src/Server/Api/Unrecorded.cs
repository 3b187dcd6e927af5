using CalmSentry.Contract.Api;
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

    public static Task Watch(SentryStore store, HttpContext context, RequestDelegate next)
    {
        if (
            store.Failure is { } failure
            && !HttpMethods.IsGet(context.Request.Method)
            && context.GetEndpoint()?.Metadata.GetMetadata<Refused>() is not null
        )
            return Refusal(failure).ExecuteAsync(context);
        if (context.GetEndpoint()?.Metadata.GetMetadata<Told>() is not null)
            return next(context);
        context.Response.OnStarting(() =>
        {
            if (store.Failure is { } unwritten)
                context.Response.Headers[OwnHeaders.NotRecorded] = string.Concat(
                    unwritten.Where(c => c is >= ' ' and < '\x7f')
                );
            return Task.CompletedTask;
        });
        return next(context);
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
