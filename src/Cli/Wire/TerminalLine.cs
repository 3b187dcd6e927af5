using System.Net.Sockets;
using System.Net.WebSockets;
using System.Security.Cryptography;
using System.Text;

namespace CalmSentry.Cli.Wire;

/// <summary>
/// The line of a joined terminal: a WebSocket whose reads wait in their own thread. What is shown comes in order and there is nothing else to
/// do meanwhile; and reads by events were seen to stop, with data waiting, when much came at once.
/// </summary>
internal sealed class TerminalLine : Stream
{
    private const int LongestHead = 16384;

    private readonly Socket socket;

    private TerminalLine(Socket socket) => this.socket = socket;

    /// <summary>Opens a WebSocket by hand (RFC 6455, section 4.1), over a Unix socket.</summary>
    /// <param name="path">With its query.</param>
    /// <exception cref="SocketException">Nobody listens there.</exception>
    /// <exception cref="WebSocketException">It was refused.</exception>
    public static WebSocket Open(string unixSocket, string path)
    {
        var line = new TerminalLine(new(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified));
        try
        {
            line.socket.Connect(new UnixDomainSocketEndPoint(unixSocket));
            var key = Convert.ToBase64String(RandomNumberGenerator.GetBytes(16));
            line.Write(
                Encoding.ASCII.GetBytes(
                    $"GET {path} HTTP/1.1\r\nHost: sentry\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
                        + $"Sec-WebSocket-Key: {key}\r\nSec-WebSocket-Version: 13\r\n\r\n"
                )
            );
            if (!line.Head().StartsWith("HTTP/1.1 101 ", StringComparison.Ordinal))
                throw new WebSocketException(WebSocketError.NotAWebSocket);
            return WebSocket.CreateFromStream(line, new WebSocketCreationOptions { KeepAliveInterval = TimeSpan.Zero });
        }
        catch
        {
            line.Dispose();
            throw;
        }
    }

    private string Head()
    {
        var head = new StringBuilder();
        Span<byte> one = stackalloc byte[1];
        while (head.Length < LongestHead && Read(one) == 1)
        {
            head.Append((char)one[0]);
            if (one[0] == (byte)'\n' && head.Length > 3 && head[^3] == '\n')
                break;
        }

        return head.ToString();
    }

    public override bool CanRead => true;

    public override bool CanSeek => false;

    public override bool CanWrite => true;

    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => throw new NotSupportedException();
        set => throw new NotSupportedException();
    }

    public override int Read(Span<byte> buffer)
    {
        try
        {
            return socket.Receive(buffer);
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException)
        {
            throw new IOException(error.Message, error);
        }
    }

    public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

    public override ValueTask<int> ReadAsync(Memory<byte> buffer, CancellationToken cancellationToken = default) =>
        new(Read(buffer.Span));

    public override Task<int> ReadAsync(byte[] buffer, int offset, int count, CancellationToken cancellationToken) =>
        Task.FromResult(Read(buffer.AsSpan(offset, count)));

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        try
        {
            for (var put = 0; put < buffer.Length; )
                put += socket.Send(buffer[put..]);
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException)
        {
            throw new IOException(error.Message, error);
        }
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default)
    {
        Write(buffer.Span);
        return ValueTask.CompletedTask;
    }

    public override Task WriteAsync(byte[] buffer, int offset, int count, CancellationToken cancellationToken)
    {
        Write(buffer.AsSpan(offset, count));
        return Task.CompletedTask;
    }

    public override void Flush() { }

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    protected override void Dispose(bool disposing)
    {
        if (disposing)
            socket.Dispose(); // whoever reads is woken
        base.Dispose(disposing);
    }
}
