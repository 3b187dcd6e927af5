using System.Net.Sockets;
using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Linux.Sockets;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Engine.Probing;

/// <summary>Looking whether something answers. Each gives what is missing as a clause, or null.</summary>
internal static class Probes
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5),
        LongestPatience = TimeSpan.FromSeconds(30);

    /// <summary>Of a page so much is looked at, in bytes.</summary>
    private const int LongestPage = 1 << 20;

    /// <summary>
    /// Each call limits its own time. Nothing is kept between calls: no connection, and no cookie that one service sets
    /// and another would get.
    /// </summary>
    public static HttpClient Http { get; } =
        new(
            new SocketsHttpHandler
            {
                UseProxy = false,
                UseCookies = false,
                AllowAutoRedirect = false,
                PooledConnectionLifetime = TimeSpan.Zero,
                ConnectTimeout = LongestPatience,
                MaxResponseHeadersLength = 64,
                MaxResponseDrainSize = 0,
            }
        )
        {
            Timeout = Timeout.InfiniteTimeSpan,
        };

    /// <summary>What cannot be looked at is missing, with the reason; it is looked at again.</summary>
    /// <param name="ownToo">Also what fails on the sentry's own side; else that stays an exception.</param>
    public static async Task<string?> OrWhyNot(this Task<string?> look, bool ownToo = true)
    {
        try
        {
            return await look;
        }
        catch (Exception error)
            when (error is not OperationCanceledException && (ownToo || error is not OwnTroubleException))
        {
            return $"it cannot be looked at: {error.Message.TrimEnd('.')}";
        }
    }

    public static async Task<(string? Missing, string Seen)> OrWhyNot(
        this Task<(string? Missing, string Seen)> look,
        bool ownToo = true
    )
    {
        var seen = "";
        var missing = await OrWhyNot(Missing(), ownToo);
        return (missing, seen);

        async Task<string?> Missing()
        {
            (var why, seen) = await look;
            return why;
        }
    }

    /// <summary>The beginning of a body as text; what is longer is not read.</summary>
    public static async Task<string> Body(HttpResponseMessage response, int most, CancellationToken cancellation)
    {
        var stream = await response.Content.ReadAsStreamAsync(cancellation);
        var room = new byte[Math.Min(most, 8192)];
        var length = 0;
        for (int got; (got = await stream.ReadAsync(room.AsMemory(length), cancellation)) > 0; )
        {
            length += got;
            if (length == most)
                break;
            if (length == room.Length)
                Array.Resize(ref room, Math.Min(most, room.Length * 2));
        }

        return Encoding.UTF8.GetString(room, 0, length);
    }

    /// <summary>That the sentry has no descriptor or port left says nothing of the program it asks.</summary>
    /// <exception cref="OwnTroubleException">It is so.</exception>
    private static void ThrowIfOurs(Exception? error)
    {
        if (
            error is SocketException
            {
                SocketErrorCode: SocketError.TooManyOpenSockets
                    or SocketError.NoBufferSpaceAvailable
                    or SocketError.AddressNotAvailable
                    or SocketError.ProcessLimit
            } socket
        )
            throw new OwnTroubleException(
                $"the sentry is out of room for a connection ({socket.Message.TrimEnd('.')})"
            );
    }

    public static async Task<string?> Tcp(string address, CancellationToken cancellation, TimeSpan? within = null)
    {
        var (host, port) = NetworkAddress.Read(address)!.Value;
        if (TcpKnock.At(host, port) is { } taken)
            return taken ? null : $"nothing accepts connections at {address}";
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(within ?? Patience);
        try
        {
            using var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
            await socket.ConnectAsync(host, port, limit.Token);
            return null;
        }
        catch (SocketException error)
        {
            ThrowIfOurs(error);
            return error.SocketErrorCode == SocketError.ConnectionRefused
                ? $"nothing accepts connections at {address}"
                : $"{address} does not answer ({error.Message})";
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            return $"{address} does not answer within {Duration.Write(within ?? Patience)}";
        }
    }

    public static async Task<(string? Missing, string Seen)> Web(
        HttpProof proof,
        CancellationToken cancellation,
        TimeSpan? within = null
    )
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(within ?? Patience);
        try
        {
            using var response = await Http.GetAsync(
                new Uri(proof.Url),
                HttpCompletionOption.ResponseHeadersRead,
                limit.Token
            );
            var status = (int)response.StatusCode;
            var said = $"{proof.Url} answered {status}";
            if (proof.Status is { } wanted ? status != wanted : status is < 200 or >= 400)
                return (
                    $"{said}, wanted {proof.Status?.ToString(System.Globalization.CultureInfo.InvariantCulture) ?? "200 to 399"}",
                    said
                );
            if (proof.Text is not { } text)
                return (null, said);
            var body = await Body(response, LongestPage, limit.Token);
            return body.Contains(text, StringComparison.Ordinal)
                ? (null, $"{said} with '{text}' in it")
                : ($"{said}, without '{text}' in it", said);
        }
        catch (HttpRequestException error)
        {
            ThrowIfOurs(error.InnerException);
            return (
                error.InnerException is SocketException { SocketErrorCode: SocketError.ConnectionRefused }
                    ? $"nobody answers at {proof.Url}"
                    : $"{proof.Url} does not answer ({error.Message.TrimEnd('.')})",
                ""
            );
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            return ($"{proof.Url} does not answer within {Duration.Write(within ?? Patience)}", "");
        }
    }
}
