using System.Diagnostics;
using System.Net;
using System.Net.Http.Json;
using System.Net.ServerSentEvents;
using System.Net.Sockets;
using System.Net.WebSockets;
using System.Runtime.CompilerServices;
using System.Text.Json;
using System.Text.Json.Serialization.Metadata;
using CalmSentry.Cli.Formatting;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Wire;

/// <summary>
/// Speaks to the sentry over its Unix socket. What goes wrong is a <see cref="Failure"/> with its exit code.
/// </summary>
internal sealed class SentryClient : IDisposable
{
    private readonly HttpClient http;
    private readonly HashSet<string> said = [];
    private readonly Places places;

    public SentryClient(Places places)
    {
        this.places = places;
        http = new HttpClient(Handler())
        {
            BaseAddress = new Uri("http://sentry/api/"),
            Timeout = Timeout.InfiniteTimeSpan,
        };
    }

    private SocketsHttpHandler Handler() =>
        new()
        {
            ConnectCallback = Connect,
            UseProxy = false,
            UseCookies = false,
        };

    public static string PathOf(string service) =>
        service.Length > 0
            ? $"services/{Uri.EscapeDataString(service)}"
            : throw new Failure(Exit.Usage, "A name is empty; nothing was done.", "'calm list' shows all there are.");

    public Task<T> Get<T>(string path, JsonTypeInfo<T> type, CancellationToken cancellation) =>
        Send(HttpMethod.Get, path, null, type, cancellation);

    /// <param name="madeFrom">The entity tag of what is changed, as it was read (If-Match, RFC 9110, 13.1.1).</param>
    public async Task<T> Send<T>(
        HttpMethod method,
        string path,
        HttpContent? content,
        JsonTypeInfo<T> type,
        CancellationToken cancellation,
        string? madeFrom = null
    )
    {
        using var request = new HttpRequestMessage(method, path) { Content = content };
        if (madeFrom is not null)
            request.Headers.TryAddWithoutValidation("If-Match", madeFrom);
        using var response = await Send(request, HttpCompletionOption.ResponseContentRead, cancellation)
            .ConfigureAwait(false);
        return await response.Content.ReadFromJsonAsync(type, cancellation).ConfigureAwait(false)
            ?? throw new Failure(Exit.NotTrue, "The sentry's answer was empty.");
    }

    /// <summary>The body of a GET, as it comes.</summary>
    public Task<HttpResponseMessage> Stream(string path, CancellationToken cancellation) =>
        Open(HttpMethod.Get, path, null, cancellation);

    /// <summary>An answer whose body is read as it comes.</summary>
    public async Task<HttpResponseMessage> Open(
        HttpMethod method,
        string path,
        HttpContent? content,
        CancellationToken cancellation
    )
    {
        using var request = new HttpRequestMessage(method, path) { Content = content };
        return await Send(request, HttpCompletionOption.ResponseHeadersRead, cancellation).ConfigureAwait(false);
    }

    /// <summary>The sentry ended, or was killed, while it was listened to.</summary>
    /// <param name="afterwards">What becomes of what was asked, as a clause.</param>
    public static Failure WentAway(string afterwards) =>
        new(Exit.Unreachable, $"The sentry went away; {afterwards}.", "See with 'calm list' once it is back.");

    /// <summary>An answer of lines (newline-delimited JSON), each as it comes.</summary>
    /// <param name="afterwards">What becomes of what was asked if the sentry goes away meanwhile, as a clause.</param>
    public async IAsyncEnumerable<T> Lines<T>(
        HttpMethod method,
        string path,
        HttpContent? content,
        JsonTypeInfo<T> type,
        string afterwards,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        using var response = await Open(method, path, content, cancellation).ConfigureAwait(false);
        using var reader = new StreamReader(
            await response.Content.ReadAsStreamAsync(cancellation).ConfigureAwait(false)
        );
        while (await Next(reader, afterwards, cancellation).ConfigureAwait(false) is { } line)
            yield return JsonSerializer.Deserialize(line, type)
                ?? throw new Failure(Exit.NotTrue, "The sentry's answer was empty.");
    }

    /// <summary>The next line of an answer; null: it has ended.</summary>
    /// <exception cref="Failure">It broke off.</exception>
    public static async Task<string?> Next(StreamReader reader, string afterwards, CancellationToken cancellation)
    {
        try
        {
            return await reader.ReadLineAsync(cancellation).ConfigureAwait(false);
        }
        catch (HttpIOException)
        {
            throw WentAway(afterwards);
        }
    }

    /// <summary>Calls <paramref name="changed"/> for each state a service comes to, until cancelled.</summary>
    /// <param name="service">Of this one alone, beginning with the state it is in.</param>
    public async Task Watch(Action<ServiceView> changed, string? service, CancellationToken cancellation)
    {
        var path = service is null ? "events" : $"{PathOf(service)}/events";
        using var response = await Stream(path, cancellation).ConfigureAwait(false);
        var stream = await response.Content.ReadAsStreamAsync(cancellation).ConfigureAwait(false);
        await foreach (var item in SseParser.Create(stream).EnumerateAsync(cancellation).ConfigureAwait(false))
            if (item.EventType == "service")
                changed(JsonSerializer.Deserialize(item.Data, ApiJson.Default.ServiceView)!);
        throw WentAway(ProgramsGoOn);
    }

    /// <summary>Calls <paramref name="happened"/> with the name of each event there is, until cancelled.</summary>
    public async Task Listen(Func<string, Task> happened, CancellationToken cancellation)
    {
        using var response = await Stream("events", cancellation).ConfigureAwait(false);
        var stream = await response.Content.ReadAsStreamAsync(cancellation).ConfigureAwait(false);
        await foreach (var item in SseParser.Create(stream).EnumerateAsync(cancellation).ConfigureAwait(false))
            await happened(item.EventType).ConfigureAwait(false);
        throw WentAway(ProgramsGoOn);
    }

    /// <summary>What is so after any end of the sentry.</summary>
    public const string ProgramsGoOn = "programs go on, and what was asked goes on with the next one";

    /// <summary>All that was asked for through this client is on record, as far as its answers say.</summary>
    public bool IsOnRecord { get; private set; } = true;

    /// <summary>A service's terminal, joined by a ticket of its own.</summary>
    /// <param name="from">The run that was seen, and the place up to which.</param>
    public async Task<WebSocket> JoinTerminal(
        string service,
        bool watches,
        (long Run, long Place)? from,
        CancellationToken cancellation
    )
    {
        var ticket = await Send(
                HttpMethod.Post,
                $"{PathOf(service)}/terminal{(watches ? "?watch=true" : "")}",
                null,
                ApiJson.Default.TerminalTicket,
                cancellation
            )
            .ConfigureAwait(false);
        var goesOn = from is var (run, place) ? $"&run={run}&place={place}" : "";
        var path = $"/api/terminal?ticket={ticket.Ticket}{goesOn}";
        try
        {
            return TerminalLine.Open(places.RootSocket, path);
        }
        catch (SocketException)
        {
            // As for every call: whoever may not use that one asks at the other.
        }

        try
        {
            return TerminalLine.Open(places.ApiSocket, path);
        }
        catch (SocketException error)
        {
            throw Unreachable(error);
        }
    }

    public void Dispose() => http.Dispose();

    private async Task<HttpResponseMessage> Send(
        HttpRequestMessage request,
        HttpCompletionOption option,
        CancellationToken cancellation
    )
    {
        HttpResponseMessage response;
        try
        {
            response = await Patiently(request, option, cancellation).ConfigureAwait(false);
        }
        catch (HttpRequestException error) when (error.InnerException is SocketException socket)
        {
            throw Unreachable(socket);
        }
        catch (HttpRequestException)
        {
            throw new Failure(
                Exit.Unreachable,
                "The sentry went away before it answered; what was asked may or may not have come true.",
                "See with 'calm list' once it is back."
            );
        }

        if (response.Headers.TryGetValues(OwnHeaders.Zone, out var zone))
            Lengths.Zone = zone.First();
        if (response.Headers.TryGetValues(OwnHeaders.NotRecorded, out var why))
        {
            Say($"not on record yet: {why.First().TrimEnd('.')}. It is tried again every second.");
            IsOnRecord &= request.Method == HttpMethod.Get;
        }

        if (response.Headers.TryGetValues(OwnHeaders.Note, out var note))
            Say(note.First());
        if (response.IsSuccessStatusCode)
            return response;
        using (response)
        {
            Problem? problem = null;
            try
            {
                problem = await response
                    .Content.ReadFromJsonAsync(ApiJson.Default.Problem, cancellation)
                    .ConfigureAwait(false);
            }
            catch (JsonException)
            {
                // Told below by its status alone.
            }

            throw new Failure(
                Exit.For((int)response.StatusCode),
                problem?.Detail ?? $"The sentry answered {(int)response.StatusCode}.",
                problem?.Next,
                problem?.Code
            )
            {
                Mistakes = problem?.Errors ?? [],
            };
        }
    }

    /// <summary>How long it is waited for a place among those who ask.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10),
        Beat = TimeSpan.FromMilliseconds(100);

    /// <summary>Who is refused because too many ask tries again for a while.</summary>
    private async Task<HttpResponseMessage> Patiently(
        HttpRequestMessage request,
        HttpCompletionOption option,
        CancellationToken cancellation
    )
    {
        for (var began = Stopwatch.GetTimestamp(); ; )
        {
            var again = new HttpRequestMessage(request.Method, request.RequestUri) { Content = request.Content };
            foreach (var (header, values) in request.Headers)
                again.Headers.TryAddWithoutValidation(header, values);
            var response = await http.SendAsync(again, option, cancellation).ConfigureAwait(false);
            // Only a refusal at the door hangs up.
            if (
                response.StatusCode != HttpStatusCode.ServiceUnavailable
                || response.Headers.ConnectionClose != true
                || Stopwatch.GetElapsedTime(began) > Patience
            )
                return response;
            response.Dispose();
            await Task.Delay(Beat, cancellation).ConfigureAwait(false);
        }
    }

    /// <summary>Once, however many answers a command takes.</summary>
    private void Say(string note)
    {
        if (!said.Add(note))
            return;
        foreach (var line in Folding.Lines($"calm: {note}", Terminal.Width(error: true)))
            Console.Error.WriteLine(line);
    }

    private Failure Unreachable(SocketException error) =>
        error.SocketErrorCode switch
        {
            SocketError.AccessDenied => new(
                Exit.NotPermitted,
                $"You may not speak to the sentry at {places.ApiSocket}.",
                "Ask as root or as the sentry's own account: sudo calm …"
            ),
            _ => new(
                Exit.Unreachable,
                $"No sentry answers at {places.ApiSocket} "
                    + $"({(File.Exists(places.ApiSocket) ? error.Message : "there is no such socket")}).",
                places.Root == "/"
                    ? "Start it with 'calm-sentry serve', or name another root with --root DIR."
                    : $"Start it with 'calm-sentry serve --root {places.Root}'."
            ),
        };

    private async ValueTask<Stream> Connect(SocketsHttpConnectionContext context, CancellationToken cancellation)
    {
        // Root has a door of its own; whoever may not use that one is told at the other who may.
        if (await Connected(places.RootSocket, mayFail: true, cancellation).ConfigureAwait(false) is { } own)
            return own;
        return (await Connected(places.ApiSocket, mayFail: false, cancellation).ConfigureAwait(false))!;
    }

    private static async Task<Stream?> Connected(string path, bool mayFail, CancellationToken cancellation)
    {
        for (var began = Stopwatch.GetTimestamp(); ; )
        {
            var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            try
            {
                await socket.ConnectAsync(new UnixDomainSocketEndPoint(path), cancellation).ConfigureAwait(false);
                return new NetworkStream(socket, ownsSocket: true);
            }
            catch (SocketException error)
                when (error.SocketErrorCode == SocketError.WouldBlock && Stopwatch.GetElapsedTime(began) < Patience)
            {
                socket.Dispose(); // as many wait as may (unix(7), EAGAIN)
                await Task.Delay(Beat, cancellation).ConfigureAwait(false);
            }
            catch (SocketException) when (mayFail)
            {
                socket.Dispose();
                return null;
            }
            catch
            {
                socket.Dispose();
                throw;
            }
        }
    }
}
