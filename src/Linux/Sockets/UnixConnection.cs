using System.Net.Sockets;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Sockets;

/// <summary>
/// Connects to a Unix socket however long its path is: a socket address holds 107 bytes, a descriptor's path is short. It never waits:
/// whoever listens need not accept, and connect(2) would wait for that without a bound.
/// </summary>
public static class UnixConnection
{
    /// <param name="followsLinks">False: where somebody else may change the directory, a link there leads nowhere.</param>
    /// <exception cref="SocketException">Nobody listens there; <see cref="SocketError.WouldBlock"/>: somebody does, and has left so many
    /// waiting that no more fit.</exception>
    public static unsafe Socket Connect(string directory, string name, bool followsLinks = true)
    {
        using var path = new CString(followsLinks ? directory : Path.Combine(directory, name));
        var handle = Libc.open(
            path.Pointer,
            Libc.O_PATH | Libc.O_CLOEXEC | (followsLinks ? Libc.O_DIRECTORY : Libc.O_NOFOLLOW),
            0
        );
        if (handle < 0)
            throw new SocketException((int)SocketError.HostNotFound);
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            socket.Blocking = false;
            socket.Connect(new UnixDomainSocketEndPoint($"/proc/self/fd/{handle}{(followsLinks ? $"/{name}" : "")}"));
            socket.Blocking = true;
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
        finally
        {
            _ = Libc.close(handle);
        }
    }
}
