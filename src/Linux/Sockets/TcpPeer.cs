using System.Buffers.Binary;
using System.Net;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Sockets;

/// <summary>
/// Which account a TCP connection on this machine comes from, by the kernel's own table (sock_diag(7)).
/// </summary>
public static unsafe class TcpPeer
{
    private const int NetLink = 16,
        Raw = 3,
        SockDiag = 4,
        ByFamily = 20,
        Request = 1,
        HeadLength = 16,
        RequestLength = 56,
        DontWait = 0x40,
        Inet = 2,
        Tcp = 6;

    /// <summary>
    /// Where the user id stands in an answer: behind the head, the socket's identity and three counters.
    /// </summary>
    private const int UidAt = HeadLength + 4 + 48 + 12;

    /// <param name="here">The end that is ours.</param>
    /// <param name="there">The end that is theirs, on this machine too.</param>
    /// <returns>Null when the kernel does not say.</returns>
    public static uint? UidOf(IPEndPoint here, IPEndPoint there)
    {
        var socket = Libc.socket(NetLink, Raw | Libc.SOCK_CLOEXEC, SockDiag);
        if (socket < 0)
            return null;
        try
        {
            var message = stackalloc byte[HeadLength + RequestLength];
            var text = new Span<byte>(message, HeadLength + RequestLength);
            text.Clear();
            BinaryPrimitives.WriteInt32LittleEndian(text, text.Length);
            BinaryPrimitives.WriteInt16LittleEndian(text[4..], ByFamily);
            BinaryPrimitives.WriteInt16LittleEndian(text[6..], Request);
            var request = text[HeadLength..];
            request[0] = Inet;
            request[1] = Tcp;
            BinaryPrimitives.WriteUInt32LittleEndian(request[4..], uint.MaxValue); // in whatever state
            // Their socket, as they have it: its own end is our other one.
            BinaryPrimitives.WriteUInt16BigEndian(request[8..], (ushort)there.Port);
            BinaryPrimitives.WriteUInt16BigEndian(request[10..], (ushort)here.Port);
            _ = there.Address.TryWriteBytes(request[12..], out _);
            _ = here.Address.TryWriteBytes(request[28..], out _);
            BinaryPrimitives.WriteUInt64LittleEndian(request[48..], ulong.MaxValue); // no cookie
            if (Libc.send(socket, message, text.Length, 0) != text.Length)
                return null;
            var answer = stackalloc byte[512];
            var got = (int)Libc.recv(socket, answer, 512, DontWait);
            return got >= UidAt + 4 && *(short*)(answer + 4) == ByFamily ? *(uint*)(answer + UidAt) : null;
        }
        finally
        {
            _ = Libc.close(socket);
        }
    }
}
