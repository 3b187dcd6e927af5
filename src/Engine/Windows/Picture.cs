using System.Buffers.Binary;
using System.Net.Sockets;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Engine.Windows;

/// <summary>What a display shows at one moment, asked of it by the remote framebuffer protocol (RFC 6143).</summary>
internal static class Picture
{
    /// <summary>No security (7.1.2), raw pixels (7.7.1).</summary>
    private const byte NoSecurity = 1;
    private const int Raw = 0;

    /// <summary>Of the display's name, and of a text that lies in its clipboard: read and thrown away.</summary>
    private const int LongestText = 1 << 20;

    private static ReadOnlySpan<byte> Version => "RFB 003.008\n"u8;

    /// <param name="socket">A fresh connection to it; closed by whoever opened it.</param>
    /// <returns>A PNG.</returns>
    /// <exception cref="IOException">It is gone, or speaks otherwise.</exception>
    public static async Task<byte[]> Of(Socket socket, CancellationToken cancellation)
    {
        await using var stream = new NetworkStream(socket);
        var (width, height) = await Begin(stream, cancellation).ConfigureAwait(false);
        var pixels = new byte[width * height * 4];
        var seen = 0L;
        while (seen < (long)width * height)
            seen += await Message(stream, pixels, width, height, cancellation).ConfigureAwait(false);
        return Png.Of(pixels, width, height);
    }

    /// <summary>Both greet each other, and the display says its size; it is asked for all that it shows.</summary>
    private static async Task<(int Width, int Height)> Begin(NetworkStream stream, CancellationToken cancellation)
    {
        _ = await Read(stream, Version.Length, cancellation).ConfigureAwait(false);
        await stream.WriteAsync(Version.ToArray(), cancellation).ConfigureAwait(false);
        var kinds = (await Read(stream, 1, cancellation).ConfigureAwait(false))[0];
        if (!(await Read(stream, kinds, cancellation).ConfigureAwait(false)).Contains(NoSecurity))
            throw new IOException("the display wants to know who asks");
        await stream.WriteAsync(new[] { NoSecurity }, cancellation).ConfigureAwait(false);
        if (BinaryPrimitives.ReadInt32BigEndian(await Read(stream, 4, cancellation).ConfigureAwait(false)) != 0)
            throw new IOException("the display lets nobody in");
        await stream.WriteAsync(new byte[] { 1 }, cancellation).ConfigureAwait(false); // others go on seeing it
        var head = await Read(stream, 24, cancellation).ConfigureAwait(false);
        var (width, height) = (
            BinaryPrimitives.ReadUInt16BigEndian(head),
            BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(2))
        );
        if (width is 0 or > WindowSize.Most || height is 0 or > WindowSize.Most)
            throw new IOException($"the display has {width}x{height}");
        await Skip(stream, BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(20)), cancellation).ConfigureAwait(false);

        var order = new byte[20 + 8 + 10];
        // SetPixelFormat: 32 bits of which 24 count, red first in memory.
        new byte[] { 0, 0, 0, 0, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 0, 8, 16 }.CopyTo(order, 0);
        // SetEncodings: one, raw.
        (order[20], order[23]) = (2, 1);
        // FramebufferUpdateRequest: all of it.
        order[28] = 3;
        BinaryPrimitives.WriteUInt16BigEndian(order.AsSpan(34), width);
        BinaryPrimitives.WriteUInt16BigEndian(order.AsSpan(36), height);
        await stream.WriteAsync(order, cancellation).ConfigureAwait(false);
        return (width, height);
    }

    /// <summary>The next message of the display (7.6).</summary>
    /// <returns>Pixels that it brought.</returns>
    private static async Task<long> Message(
        NetworkStream stream,
        byte[] pixels,
        int width,
        int height,
        CancellationToken cancellation
    )
    {
        switch ((await Read(stream, 1, cancellation).ConfigureAwait(false))[0])
        {
            case 0: // FramebufferUpdate
                var head = await Read(stream, 3, cancellation).ConfigureAwait(false);
                var brought = 0L;
                for (var left = BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(1)); left > 0; left--)
                    brought += await Rectangle(stream, pixels, width, height, cancellation).ConfigureAwait(false);
                return brought;
            case 1: // SetColourMapEntries
                var map = await Read(stream, 5, cancellation).ConfigureAwait(false);
                await Skip(stream, BinaryPrimitives.ReadUInt16BigEndian(map.AsSpan(3)) * 6u, cancellation)
                    .ConfigureAwait(false);
                return 0;
            case 2: // Bell
                return 0;
            case 3: // ServerCutText
                var text = await Read(stream, 7, cancellation).ConfigureAwait(false);
                await Skip(stream, BinaryPrimitives.ReadUInt32BigEndian(text.AsSpan(3)), cancellation)
                    .ConfigureAwait(false);
                return 0;
            case var other:
                throw new IOException($"the display sent a message {other}");
        }
    }

    private static async Task<long> Rectangle(
        NetworkStream stream,
        byte[] pixels,
        int width,
        int height,
        CancellationToken cancellation
    )
    {
        var head = await Read(stream, 12, cancellation).ConfigureAwait(false);
        int At(int place) => BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(place));
        var (left, top, wide, high) = (At(0), At(2), At(4), At(6));
        if (BinaryPrimitives.ReadInt32BigEndian(head.AsSpan(8)) != Raw || left + wide > width || top + high > height)
            throw new IOException("the display sent what was not asked for");
        for (var y = top; y < top + high; y++)
            await stream
                .ReadExactlyAsync(pixels.AsMemory(((y * width) + left) * 4, wide * 4), cancellation)
                .ConfigureAwait(false);
        return (long)wide * high;
    }

    private static async Task<byte[]> Read(NetworkStream stream, int length, CancellationToken cancellation)
    {
        var bytes = new byte[length];
        await stream.ReadExactlyAsync(bytes, cancellation).ConfigureAwait(false);
        return bytes;
    }

    private static async Task Skip(NetworkStream stream, uint length, CancellationToken cancellation)
    {
        if (length > LongestText)
            throw new IOException($"the display sent a text of {length} bytes");
        _ = await Read(stream, (int)length, cancellation).ConfigureAwait(false);
    }
}
