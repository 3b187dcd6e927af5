using System.Globalization;
using System.Net;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;
using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>
/// An HTTP POST of a CloudEvent (version 1.0, structured mode), signed by HTTP Message Signatures (RFC 9421) with HMAC-SHA-256
/// over its time and the digest of its body (RFC 9530).
/// </summary>
internal sealed class WebhookSender(WebhookWay way, SenderHouse house) : ISender
{
    private const string Type = "application/cloudevents+json",
        JsonType = "application/json",
        TextType = "text/plain; charset=utf-8";

    private const int MostOfAnswer = 2048;

    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(15),
        LongestPause = TimeSpan.FromHours(1);

    public async Task<string> Send(StoredMessage one, Message message, Exchange? seen, CancellationToken cancellation)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(Patience);
        try
        {
            using var request = Make(one, message);
            if (seen is not null)
                await Show(request, seen, limit.Token);
            using var answer = await Outside.Client.SendAsync(
                request,
                HttpCompletionOption.ResponseHeadersRead,
                limit.Token
            );
            var code = (int)answer.StatusCode;
            seen?.Invoke(
                string.Create(CultureInfo.InvariantCulture, $"< HTTP/{answer.Version} {code} {answer.ReasonPhrase}")
            );
            var said = await Beginning(answer, limit.Token);
            if (said.Length > 0)
                seen?.Invoke($"< {said}");
            if (code is >= 200 and < 300)
                return string.Create(CultureInfo.InvariantCulture, $"{way.Url} answered {code}");
            throw new NotTakenException(
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"{way.Url} answered {code}{(code is >= 300 and < 400 ? ", a redirect, which is not followed" : "")}{(said.Length > 0 ? $": {said}" : "")}"
                ),
                forGood: answer.StatusCode
                    is HttpStatusCode.BadRequest
                        or HttpStatusCode.RequestEntityTooLarge
                        or HttpStatusCode.UnsupportedMediaType
                        or HttpStatusCode.UnprocessableEntity,
                pause: PauseOf(answer)
            );
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            throw new NotTakenException($"{way.Url} did not answer within {Duration.Write(Patience)}");
        }
        catch (HttpRequestException error)
        {
            throw new NotTakenException(
                $"{way.Url} cannot be reached: {Shown.Line((error.InnerException?.Message ?? error.Message).TrimEnd('.'))}"
            );
        }
        catch (IOException error)
        {
            throw new NotTakenException($"{way.Url}: {Shown.Line(error.Message.TrimEnd('.'))}");
        }
    }

    /// <summary>So long, or until a date (RFC 9110, section 10.2.3), which is by the clock of whoever answers where it tells that.</summary>
    private static TimeSpan? PauseOf(HttpResponseMessage answer) =>
        answer.Headers.RetryAfter is { } after
        && (after.Delta ?? after.Date - (answer.Headers.Date ?? DateTimeOffset.UtcNow)) is { } pause
        && pause > TimeSpan.Zero
            ? pause < LongestPause
                ? pause
                : LongestPause
            : null;

    private HttpRequestMessage Make(StoredMessage one, Message message)
    {
        var (type, text) = way.Body is { } template
            ? (BodyTemplate.IsJson(template) ? JsonType : TextType, Filled(template, one, message))
            : (Type, Event(one, message));
        var body = Encoding.UTF8.GetBytes(text);
        var request = new HttpRequestMessage(HttpMethod.Post, way.Url) { Content = new ByteArrayContent(body) };
        request.Content.Headers.TryAddWithoutValidation("Content-Type", type);
        request.Headers.TryAddWithoutValidation("User-Agent", "calm-sentry");
        if (way.Key is { } name)
            Sign(request, type, body, name, house.Secret(name));
        return request;
    }

    private static string Filled(string template, StoredMessage one, Message message) =>
        BodyTemplate.Fill(
            template,
            field =>
                field switch
                {
                    "subject" => Shown.Line(message.Subject),
                    "lead" => Shown.Line(message.Lead),
                    "text" => MessageText.Plain(message),
                    "kind" => Words.Of(message.Kind),
                    "topic" => message.About,
                    "urgency" => Words.Of(message.Urgency),
                    "host" => message.Host,
                    "service" => message.Service ?? "",
                    "alert" => message.Alert.ToString(CultureInfo.InvariantCulture),
                    "time" => TimeOf(message),
                    "id" => one.Id,
                    _ => throw new InvalidOperationException($"a template has no field {field}"),
                }
        );

    private static string TimeOf(Message message) =>
        message.At.UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture);

    private static void Sign(HttpRequestMessage request, string type, byte[] body, string keyId, string key)
    {
        var digest = $"sha-256=:{Convert.ToBase64String(SHA256.HashData(body))}:";
        var created = DateTimeOffset.UtcNow.ToUnixTimeSeconds();
        var input = string.Create(
            CultureInfo.InvariantCulture,
            $"(\"@method\" \"@target-uri\" \"content-type\" \"content-digest\");created={created};keyid=\"{keyId}\";alg=\"hmac-sha256\""
        );
        var signed =
            $"\"@method\": POST\n\"@target-uri\": {request.RequestUri!.AbsoluteUri}\n\"content-type\": {type}\n"
            + $"\"content-digest\": {digest}\n\"@signature-params\": {input}";
        var signature = HMACSHA256.HashData(Encoding.UTF8.GetBytes(key), Encoding.ASCII.GetBytes(signed));
        request.Content!.Headers.TryAddWithoutValidation("Content-Digest", digest);
        request.Headers.TryAddWithoutValidation("Signature-Input", $"sentry={input}");
        request.Headers.TryAddWithoutValidation("Signature", $"sentry=:{Convert.ToBase64String(signature)}:");
    }

    /// <summary>The event as JSON (CloudEvents 1.0, JSON event format).</summary>
    private string Event(StoredMessage one, Message message)
    {
        var data = new JsonObject
        {
            ["alert"] = message.Alert,
            ["kind"] = Words.Of(message.Kind),
            ["topic"] = message.About,
            ["urgency"] = Words.Of(message.Urgency),
            ["host"] = message.Host,
            ["service"] = message.Service,
            ["subject"] = Shown.Line(message.Subject),
            ["lead"] = Shown.Line(message.Lead),
            ["text"] = MessageText.Plain(message),
        };
        return new JsonObject
        {
            ["specversion"] = "1.0",
            ["id"] = one.Id,
            ["source"] = $"urn:calm-sentry:{house.Identity}",
            ["type"] = $"calm-sentry.alert.{Words.Of(message.Kind)}",
            ["subject"] = message.Service ?? message.Host,
            ["time"] = TimeOf(message),
            ["datacontenttype"] = "application/json",
            ["data"] = data,
        }.ToJsonString(Readable);
    }

    private static readonly JsonSerializerOptions Readable = new()
    {
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        TypeInfoResolver = Contract.Api.ApiJson.Default,
    };

    /// <summary>An answer may go on for ever: of it the first is read, and no more.</summary>
    private static async Task<string> Beginning(HttpResponseMessage answer, CancellationToken cancellation)
    {
        var room = new byte[MostOfAnswer];
        using var body = await answer.Content.ReadAsStreamAsync(cancellation);
        var length = await body.ReadAtLeastAsync(room, room.Length, throwOnEndOfStream: false, cancellation);
        var text = Shown.Line(Encoding.UTF8.GetString(room, 0, length)).Trim();
        return text.Length > 200 ? text[..200] + "…" : text;
    }

    private static async Task Show(HttpRequestMessage request, Exchange seen, CancellationToken cancellation)
    {
        seen($"> POST {request.RequestUri}");
        foreach (var (name, values) in request.Headers.Concat(request.Content!.Headers))
            seen($"> {name}: {string.Join(", ", values)}");
        seen($"> {await request.Content.ReadAsStringAsync(cancellation)}");
    }
}
