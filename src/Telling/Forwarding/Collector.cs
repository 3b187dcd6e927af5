using System.Globalization;
using System.Net;
using System.Net.Security;
using System.Net.Sockets;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Forwarding;
using CalmSentry.Core.Text;

namespace CalmSentry.Telling.Forwarding;

/// <summary>A line to a collector. All of it is bounded in time.</summary>
internal sealed class Collector : IAsyncDisposable
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(10);

    private readonly Socket socket;
    private readonly Stream? stream;

    /// <summary>A collector has nothing to say (RFC 6587): what one says all the same is read so far, and then the line is dropped.</summary>
    private const int MostHeard = 64 << 10;

    private readonly Task heard;

    private Collector(Socket socket, Stream? stream)
    {
        (this.socket, this.stream) = (socket, stream);
        heard = stream is null ? Task.CompletedTask : Hear(stream);
    }

    /// <summary>It has said more than is listened to.</summary>
    public bool Talks { get; private set; }

    private bool hungUp;

    private async Task Hear(Stream from)
    {
        var room = new byte[4096];
        try
        {
            for (var all = 0; ; )
            {
                var got = await from.ReadAsync(room);
                if (got == 0)
                {
                    hungUp = true;
                    return;
                }

                if ((all += got) <= MostHeard)
                    continue;
                Talks = true;
                return;
            }
        }
        catch (Exception error) when (Failed(error, CancellationToken.None))
        {
            // The line is broken, or nobody wants it any more.
        }
    }

    /// <exception cref="IOException">It cannot be reached, or is not who it should be; in words.</exception>
    public static async Task<Collector> Reach(ForwardTarget target, CancellationToken cancellation)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(Patience);
        Socket? socket = null;
        try
        {
            if (target.By == ForwardBy.Unix)
            {
                socket = new(AddressFamily.Unix, SocketType.Dgram, ProtocolType.Unspecified);
                await socket.ConnectAsync(new UnixDomainSocketEndPoint(target.To), limit.Token);
                return new(socket, null);
            }

            var (host, port) = NetworkAddress.Read(target.To)!.Value;
            if (target.By == ForwardBy.Udp)
            {
                var address = (await Dns.GetHostAddressesAsync(host, limit.Token))[0];
                socket = new(address.AddressFamily, SocketType.Dgram, ProtocolType.Udp);
                await socket.ConnectAsync(address, port, limit.Token);
                return new(socket, null);
            }

            socket = new(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
            await socket.ConnectAsync(host, port, limit.Token);
            Stream stream = new NetworkStream(socket, ownsSocket: false);
            if (target.By == ForwardBy.Tls)
            {
                var secure = new SslStream(stream);
                await secure.AuthenticateAsClientAsync(Trusting(host, target.Trust), limit.Token);
                stream = secure;
            }

            return new(socket, stream);
        }
        catch (Exception error) when (Failed(error, cancellation))
        {
            socket?.Dispose();
            throw new IOException(Why(error), error);
        }
        catch
        {
            socket?.Dispose();
            throw;
        }
    }

    private static SslClientAuthenticationOptions Trusting(string host, string? trust)
    {
        var options = new SslClientAuthenticationOptions { TargetHost = host };
        if (trust is null)
            return options;
        var roots = new X509Certificate2Collection();
        roots.ImportFromPemFile(trust);
        options.CertificateChainPolicy = new X509ChainPolicy
        {
            TrustMode = X509ChainTrustMode.CustomRootTrust,
            RevocationMode = X509RevocationMode.NoCheck,
        };
        options.CertificateChainPolicy.CustomTrustStore.AddRange(roots);
        return options;
    }

    /// <exception cref="IOException">The line is broken.</exception>
    public async Task Send(IReadOnlyList<byte[]> messages, CancellationToken cancellation)
    {
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(Patience);
        try
        {
            if (stream is null)
            {
                foreach (var message in messages)
                    await socket.SendAsync(message, limit.Token);
                return;
            }

            using var frames = new MemoryStream();
            foreach (var message in messages)
            {
                frames.Write(
                    Encoding.ASCII.GetBytes(string.Create(CultureInfo.InvariantCulture, $"{message.Length} "))
                );
                frames.Write(message);
            }

            await stream.WriteAsync(frames.GetBuffer().AsMemory(0, (int)frames.Length), limit.Token);
            await stream.FlushAsync(limit.Token);
        }
        catch (Exception error) when (Failed(error, cancellation))
        {
            throw new IOException(Why(error), error);
        }
    }

    /// <summary>
    /// Whether the collector has read all that was sent: syslog has no answer, but one that is told that no more comes
    /// reads to the end before it closes its side.
    /// </summary>
    public async Task<bool> Finish(CancellationToken cancellation)
    {
        if (stream is null)
            return true;
        using var limit = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
        limit.CancelAfter(Patience);
        try
        {
            if (stream is SslStream secure)
                await secure.ShutdownAsync().WaitAsync(limit.Token);
            socket.Shutdown(SocketShutdown.Send);
            await heard.WaitAsync(limit.Token);
            return hungUp;
        }
        catch (Exception error) when (Failed(error, cancellation))
        {
            return false;
        }
    }

    /// <summary>The collector has closed its side, or the line is broken.</summary>
    public bool IsGone => stream is not null && heard.IsCompleted;

    public async ValueTask DisposeAsync()
    {
        if (stream is not null)
            await stream.DisposeAsync();
        socket.Dispose();
        await heard;
    }

    private static bool Failed(Exception error, CancellationToken cancellation) =>
        error
            is SocketException
                or IOException
                or System.Security.Authentication.AuthenticationException
                or System.Security.Cryptography.CryptographicException
                or ObjectDisposedException
                or UnauthorizedAccessException
        || (error is OperationCanceledException && !cancellation.IsCancellationRequested);

    private static string Why(Exception error) =>
        error switch
        {
            OperationCanceledException => $"it did not answer within {Duration.Write(Patience)}",
            IOException { InnerException: SocketException socket } => socket.Message,
            _ => error.Message.TrimEnd('.'),
        };
}
