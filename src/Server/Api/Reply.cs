using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Services;
using Microsoft.AspNetCore.Http.HttpResults;

namespace CalmSentry.Server.Api;

/// <summary>What came of something asked, as calls answer it.</summary>
internal static class Reply
{
    public static JsonHttpResult<Answer> Of(Answer answer, int status = StatusCodes.Status200OK) =>
        TypedResults.Json(answer, ApiJson.Plain.Answer, statusCode: status);

    /// <summary>It came true.</summary>
    public static JsonHttpResult<Answer> Of(AnswerCode code, string said, ServiceActor? service = null) =>
        Of(
            new Answer
            {
                Code = code,
                CameTrue = true,
                Said = said,
                Service = service?.View,
            }
        );

    /// <summary>What happens, a line each as it comes (newline-delimited JSON), to its end.</summary>
    public static async Task Live<T>(HttpContext context, ChannelReader<T> happenings, JsonTypeInfo<T> type)
    {
        var (body, gone) = (context.Response.Body, context.RequestAborted);
        context.Response.ContentType = "application/x-ndjson";
        await foreach (var happened in happenings.ReadAllAsync(gone).ConfigureAwait(false))
        {
            await JsonSerializer.SerializeAsync(body, happened, type, gone).ConfigureAwait(false);
            await body.WriteAsync(LineEnd, gone).ConfigureAwait(false);
            await body.FlushAsync(gone).ConfigureAwait(false);
        }
    }

    private static readonly byte[] LineEnd = "\n"u8.ToArray();

    /// <summary>To a call that only asks what would be done.</summary>
    public static IResult WouldDo(
        string said,
        ServiceView? service = null,
        IReadOnlyList<FindingView>? findings = null,
        RepeatView? repeat = null,
        IReadOnlyList<MomentsView>? moments = null
    ) =>
        Of(
            new Answer
            {
                Code = AnswerCode.WouldDo,
                CameTrue = true,
                Said = said,
                Service = service,
                Findings = findings,
                Repeat = repeat,
                Moments = moments,
            }
        );
}
