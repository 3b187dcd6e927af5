using System.Buffers.Binary;
using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Sockets;

/// <summary>
/// Whether a port of this machine takes a connection, in the moment it is asked (connect(2) without waiting): on loopback the kernel has
/// the answer at once, and nobody needs to be woken for it.
/// </summary>
public static class TcpKnock
{
    /// <returns>True: a connection was made, and closed. False: it was refused. Null: there is no answer yet, or the address is none of loopback.</returns>
    public static unsafe bool? At(string host, int port)
    {
        const int streamWithoutWaiting = Libc.SOCK_STREAM | Libc.SOCK_CLOEXEC | Libc.O_NONBLOCK,
            inProgress = 115,
            refused = 111,
            socketLevel = 1, // SOL_SOCKET
            errorOfIt = 4, // SO_ERROR
            lengthOf4 = 16,
            lengthOf6 = 28;
        if (!IPAddress.TryParse(host, out var ip) || !IPAddress.IsLoopback(ip) || ip.IsIPv4MappedToIPv6)
            return null;
        var is4 = ip.AddressFamily == AddressFamily.InterNetwork;
        // struct sockaddr_in: family, port, address; struct sockaddr_in6: family, port, flow, address, scope.
        var address = stackalloc byte[lengthOf6];
        var room = new Span<byte>(address, lengthOf6);
        room.Clear();
        var family = is4 ? 2 : 10;
        BinaryPrimitives.WriteUInt16LittleEndian(room, (ushort)family);
        BinaryPrimitives.WriteUInt16BigEndian(room[2..], (ushort)port);
        _ = ip.TryWriteBytes(room[(is4 ? 4 : 8)..], out _);
        var to = Libc.socket(family, streamWithoutWaiting, 0);
        if (to < 0)
            return null;
        try
        {
            if (Libc.connect(to, address, is4 ? (uint)lengthOf4 : lengthOf6) == 0)
                return true;
            if (Marshal.GetLastSystemError() is var errno and not inProgress)
                return errno == refused ? false : null;
            var wait = new Libc.PollFd { Fd = to, Events = Libc.POLLOUT };
            if (Libc.poll(&wait, 1, 0) <= 0)
                return null;
            int error;
            uint length = sizeof(int);
            if (Libc.getsockopt(to, socketLevel, errorOfIt, &error, &length) < 0)
                return null;
            return error switch
            {
                0 => true,
                refused => false,
                _ => null,
            };
        }
        finally
        {
            _ = Libc.close(to);
        }
    }
}
