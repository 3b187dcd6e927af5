using System.Net.Sockets;
using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Sockets;

/// <summary>Who is at the other end of a Unix socket, by the kernel's word (unix(7), SO_PEERCRED).</summary>
public readonly record struct PeerCredentials(int Pid, uint Uid, uint Gid)
{
    public static unsafe PeerCredentials? Of(Socket socket)
    {
        const int solSocket = 1,
            soPeerCred = 17;
        var values = stackalloc int[3];
        uint length = 12;
        if (Libc.getsockopt((int)socket.Handle, solSocket, soPeerCred, values, &length) < 0)
            return null;
        return new(values[0], (uint)values[1], (uint)values[2]);
    }

    /// <summary>
    /// Whether the process that connected is still there, so that its number is nobody else's (SO_PEERPIDFD, since
    /// Linux 6.5). True
    /// where the kernel cannot say.
    /// </summary>
    public static unsafe bool StillThere(Socket socket)
    {
        const int solSocket = 1,
            soPeerPidFd = 77,
            notKnown = 92; // ENOPROTOOPT
        int process;
        uint length = sizeof(int);
        if (Libc.getsockopt((int)socket.Handle, solSocket, soPeerPidFd, &process, &length) < 0)
            return Marshal.GetLastSystemError() == notKnown;
        try
        {
            // A process that has ended has no number here any more.
            return File.ReadLines($"/proc/self/fdinfo/{process}")
                .Any(line =>
                    line.StartsWith("Pid:", StringComparison.Ordinal) && !line.Contains('-', StringComparison.Ordinal)
                );
        }
        catch (IOException)
        {
            return false;
        }
        finally
        {
            _ = Libc.close(process);
        }
    }
}
