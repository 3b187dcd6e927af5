using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Troubles;
using CalmSentry.Server.Http;

namespace CalmSentry.Server.Api;

/// <summary>
/// What goes wrong in a call becomes an answer in words: the caller's mistakes as such, the sentry's own with an entry
/// in its log.
/// </summary>
internal static partial class Failures
{
    public static async Task Watch(HttpContext context, RequestDelegate next)
    {
        try
        {
            await next(context).ConfigureAwait(false);
        }
        catch (Exception) when (context.RequestAborted.IsCancellationRequested)
        {
            // The caller has gone: nobody waits for an answer.
        }
        catch (Exception error) when (!context.Response.HasStarted)
        {
            context.Response.Clear();
            await Of(error, context).ExecuteAsync(context).ConfigureAwait(false);
        }
    }

    private static IResult Of(Exception error, HttpContext context)
    {
        switch (error)
        {
            case BadHttpRequestException bad:
                return bad.StatusCode == 408
                    ? Problems.Of(
                        408,
                        ProblemCode.BodyTooSlow,
                        "Too slow",
                        "The call did not come whole in the time allowed.",
                        "Send it again."
                    )
                    : Problems.Of(
                        bad.StatusCode,
                        ProblemCode.BadCall,
                        "Not a call",
                        $"{bad.Message.TrimEnd('.')}.",
                        "GET /api/openapi.json says what each call takes."
                    );
            case BusyException busy:
                return Busy.Of(busy, context.RequestServices.GetRequiredService<Clocks>());
            case JsonException:
                return Problems.Of(
                    400,
                    ProblemCode.MalformedBody,
                    "Not what this call takes",
                    "The body is not the JSON that this call takes.",
                    "GET /api/openapi.json says what each call takes."
                );
            case OwnTroubleException own:
                Failed(
                    context.RequestServices.GetRequiredService<ILoggerFactory>().CreateLogger("calm-sentry"),
                    context.Request.Method,
                    context.Request.Path,
                    own
                );
                return Problems.Of(
                    503,
                    ProblemCode.OutOfRoom,
                    "Out of room",
                    $"The sentry cannot do that now: {own.Message}. The services it keeps are not affected.",
                    "Try again in a while."
                );
            default:
                Failed(
                    context.RequestServices.GetRequiredService<ILoggerFactory>().CreateLogger("calm-sentry"),
                    context.Request.Method,
                    context.Request.Path,
                    error
                );
                return Problems.Of(
                    500,
                    ProblemCode.Internal,
                    "Something went wrong in the sentry",
                    "The call failed inside the sentry; the services it keeps are not affected.",
                    "Look at the sentry's own log."
                );
        }
    }

    [LoggerMessage(2, LogLevel.Error, "{Method} {Path} failed")]
    private static partial void Failed(ILogger logger, string method, string path, Exception error);
}
