using System.Net.Sockets;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Sockets;

/// <summary>Who is at the other end of a Unix socket, by the kernel's word (unix(7), SO_PEERCRED).</summary>
public readonly record struct PeerCredentials(int Pid, uint Uid, uint Gid)
{
    public static unsafe PeerCredentials? Of(Socket socket)
    {
        const int solSocket = 1, soPeerCred = 17;
        var values = stackalloc int[3];
        uint length = 12;
        if (Libc.getsockopt((int)socket.Handle, solSocket, soPeerCred, values, &length) < 0) return null;
        return new(values[0], (uint)values[1], (uint)values[2]);
    }
}
