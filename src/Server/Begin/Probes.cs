using System.Net.Sockets;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Server.Begin;

/// <summary>Looking whether something answers. Each gives what is missing as a clause, or null.</summary>
internal static class Probes
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(5), LongestPatience = TimeSpan.FromSeconds(30);

    private static readonly HttpClient Http = new(new SocketsHttpHandler { UseProxy = false, AllowAutoRedirect = false, PooledConnectionLifetime = TimeSpan.Zero, ConnectTimeout = LongestPatience }) { Timeout = LongestPatience };

    /// <summary>What cannot be looked at is missing, with the reason; it is looked at again.</summary>
    public static async Task<string?> OrWhyNot(this Task<string?> look)
    {
        try
        {
            return await look.ConfigureAwait(false);
        }
        catch (Exception error) when (error is not OperationCanceledException)
        {
            return $"it cannot be looked at: {error.Message.TrimEnd('.')}";
        }
    }

    public static async Task<(string? Missing, string Seen)> OrWhyNot(this Task<(string? Missing, string Seen)> look)
    {
        var seen = "";
        var missing = await OrWhyNot(Missing()).ConfigureAwait(false);
        return (missing, seen);

        async Task<string?> Missing()
        {
            (var why, seen) = await look.ConfigureAwait(false);
            return why;
        }
    }

    public static async Task<string?> Tcp(string address, CancellationToken cancellation, TimeSpan? within = null)
    {
        var (host, port) = NetworkAddress.Read(address)!.Value;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(within ?? Patience);
        using var socket = new Socket(SocketType.Stream, ProtocolType.Tcp);
        try
        {
            await socket.ConnectAsync(host, port, limit.Token).ConfigureAwait(false);
            return null;
        }
        catch (SocketException error)
        {
            return error.SocketErrorCode == SocketError.ConnectionRefused ? $"nobody takes connections at {address}" : $"{address} does not answer ({error.Message})";
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            return $"{address} does not answer within {Duration.Write(within ?? Patience)}";
        }
    }

    public static async Task<(string? Missing, string Seen)> Web(HttpProof proof, CancellationToken cancellation, TimeSpan? within = null)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(within ?? Patience);
        try
        {
            using var response = await Http.GetAsync(new Uri(proof.Url), limit.Token).ConfigureAwait(false);
            var status = (int)response.StatusCode;
            var said = $"{proof.Url} answered {status}";
            if (proof.Status is { } wanted ? status != wanted : status is < 200 or >= 400) return ($"{said}, wanted {proof.Status?.ToString(System.Globalization.CultureInfo.InvariantCulture) ?? "200 to 399"}", said);
            if (proof.Text is not { } text) return (null, said);
            var body = await response.Content.ReadAsStringAsync(limit.Token).ConfigureAwait(false);
            return body.Contains(text, StringComparison.Ordinal) ? (null, $"{said} with '{text}' in it") : ($"{said}, without '{text}' in it", said);
        }
        catch (HttpRequestException error)
        {
            return (error.InnerException is SocketException { SocketErrorCode: SocketError.ConnectionRefused } ? $"nobody answers at {proof.Url}" : $"{proof.Url} does not answer ({error.Message.TrimEnd('.')})", "");
        }
        catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
        {
            return ($"{proof.Url} does not answer within {Duration.Write(within ?? Patience)}", "");
        }
    }
}
