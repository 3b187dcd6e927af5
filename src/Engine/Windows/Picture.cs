using System.Buffers;
using System.Buffers.Binary;
using System.Net.Sockets;
using System.Security.Cryptography;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Engine.Windows;

/// <summary>A line to a display by the remote framebuffer protocol (RFC 6143): what it shows at one moment, and that it changed.</summary>
internal sealed class Picture : IAsyncDisposable
{
    /// <summary>No security (7.1.2), raw pixels (7.7.1).</summary>
    private const byte NoSecurity = 1;
    private const int Raw = 0,
        NewSize = -223; // 7.8.2, DesktopSize

    /// <summary>Of the display's name, and of a text that lies in its clipboard: read and thrown away.</summary>
    private const int LongestText = 1 << 20;

    /// <summary>Of pixels that are read and thrown away at once.</summary>
    private const int Piece = 64 << 10;

    /// <summary>A picture of more pixels is made of every second of each row and column.</summary>
    private const int MostPixels = 4_000_000;

    private readonly NetworkStream stream;
    private readonly Pace pace = new();
    private ushort width,
        height;

    private Picture(NetworkStream stream) => this.stream = stream;

    private static ReadOnlySpan<byte> Version => "RFB 003.008\n"u8;

    public ValueTask DisposeAsync() => stream.DisposeAsync();

    /// <summary>Both greet each other, and the display says its size.</summary>
    /// <param name="socket">A fresh connection to it, which is this line's from here on.</param>
    /// <exception cref="IOException">It is gone, or speaks otherwise.</exception>
    public static async Task<Picture> Open(Socket socket, CancellationToken cancellation)
    {
        var picture = new Picture(new NetworkStream(socket, ownsSocket: true));
        try
        {
            await picture.Begin(cancellation).ConfigureAwait(false);
            return picture;
        }
        catch
        {
            await picture.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    /// <summary>The picture of a display now, as a PNG.</summary>
    /// <param name="socket">A fresh connection to it; closed here.</param>
    /// <exception cref="IOException">It is gone, or speaks otherwise.</exception>
    public static async Task<byte[]> Of(Socket socket, CancellationToken cancellation)
    {
        await using var line = await Open(socket, cancellation).ConfigureAwait(false);
        return (await line.Take(null, cancellation).ConfigureAwait(false))!.Value.Png;
    }

    /// <param name="Png">At most 16 MiB.</param>
    /// <param name="Sum">The same for the same pixels.</param>
    /// <param name="IsPlain">All of one colour.</param>
    public readonly record struct Taken(byte[] Png, UInt128 Sum, bool IsPlain);

    /// <param name="before">The sum of one before.</param>
    /// <returns>Null: it is the same as before.</returns>
    /// <exception cref="IOException">It is gone, or speaks otherwise.</exception>
    public async Task<Taken?> Take(UInt128? before, CancellationToken cancellation)
    {
        for (var tries = 0; tries < MostSizes; tries++)
        {
            var size = (width, height);
            var (length, seen) = (width * height * 4, 0L);
            var pixels = ArrayPool<byte>.Shared.Rent(length);
            try
            {
                await Ask(onlyChanges: false, cancellation).ConfigureAwait(false);
                while (seen < length / 4 && size == (width, height))
                    seen += await Message(pixels, cancellation).ConfigureAwait(false) ?? 0;
                if (size == (width, height))
                    return Made(pixels.AsSpan(0, length), before);
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(pixels);
            }
        }

        throw new IOException("the display changes its size again and again");
    }

    private const int MostSizes = 5,
        NewSizeCost = 50; // room for another picture is made

    private Taken? Made(ReadOnlySpan<byte> pixels, UInt128? before)
    {
        Span<byte> sum = stackalloc byte[SHA256.HashSizeInBytes];
        SHA256.HashData(pixels, sum);
        var now = BinaryPrimitives.ReadUInt128BigEndian(sum);
        if (now == before)
            return null;
        var step = width * height > MostPixels ? 2 : 1;
        return new(Png.Of(pixels, width, height, step), now, pixels[4..].SequenceEqual(pixels[..^4]));
    }

    /// <summary>Waits until what it shows has changed since it was last asked for; what changed is thrown away.</summary>
    /// <exception cref="IOException">It is gone, or speaks otherwise.</exception>
    public async Task Changed(CancellationToken cancellation)
    {
        await Ask(onlyChanges: true, cancellation).ConfigureAwait(false);
        while (await Message(null, cancellation).ConfigureAwait(false) is null)
        {
            // A bell, or a text in its clipboard.
        }
    }

    private async Task Begin(CancellationToken cancellation)
    {
        _ = await Read(Version.Length, cancellation).ConfigureAwait(false);
        await stream.WriteAsync(Version.ToArray(), cancellation).ConfigureAwait(false);
        var kinds = (await Read(1, cancellation).ConfigureAwait(false))[0];
        if (!(await Read(kinds, cancellation).ConfigureAwait(false)).Contains(NoSecurity))
            throw new IOException("the display wants to know who asks");
        await stream.WriteAsync(new[] { NoSecurity }, cancellation).ConfigureAwait(false);
        if (BinaryPrimitives.ReadInt32BigEndian(await Read(4, cancellation).ConfigureAwait(false)) != 0)
            throw new IOException("the display lets nobody in");
        await stream.WriteAsync(new byte[] { 1 }, cancellation).ConfigureAwait(false); // others go on seeing it
        var head = await Read(24, cancellation).ConfigureAwait(false);
        Resize(BinaryPrimitives.ReadUInt16BigEndian(head), BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(2)));
        await Skip(BinaryPrimitives.ReadUInt32BigEndian(head.AsSpan(20)), cancellation).ConfigureAwait(false);

        var order = new byte[20 + 12];
        // SetPixelFormat: 32 bits of which 24 count, red first in memory.
        new byte[] { 0, 0, 0, 0, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 0, 8, 16 }.CopyTo(order, 0);
        // SetEncodings: raw, and that it is told of a new size: a program may set that.
        (order[20], order[23]) = (2, 2);
        BinaryPrimitives.WriteInt32BigEndian(order.AsSpan(28), NewSize);
        await stream.WriteAsync(order, cancellation).ConfigureAwait(false);
    }

    private void Resize(ushort wide, ushort high)
    {
        if (wide is 0 or > WindowSize.Most || high is 0 or > WindowSize.Most)
            throw new IOException($"the display has {wide}x{high}");
        (width, height) = (wide, high);
    }

    /// <summary>FramebufferUpdateRequest (7.5.3): all of it, now or once something changed.</summary>
    private async Task Ask(bool onlyChanges, CancellationToken cancellation)
    {
        var order = new byte[10];
        (order[0], order[1]) = (3, (byte)(onlyChanges ? 1 : 0));
        BinaryPrimitives.WriteUInt16BigEndian(order.AsSpan(6), width);
        BinaryPrimitives.WriteUInt16BigEndian(order.AsSpan(8), height);
        await stream.WriteAsync(order, cancellation).ConfigureAwait(false);
    }

    /// <summary>The next message of the display (7.6).</summary>
    /// <param name="pixels">Where they go; null: they are thrown away.</param>
    /// <returns>Pixels that it brought; null: it was another message.</returns>
    private async Task<long?> Message(byte[]? pixels, CancellationToken cancellation)
    {
        await pace.Spend(1, cancellation).ConfigureAwait(false);
        switch ((await Read(1, cancellation).ConfigureAwait(false))[0])
        {
            case 0: // FramebufferUpdate
                var head = await Read(3, cancellation).ConfigureAwait(false);
                var brought = 0L;
                for (var left = BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(1)); left > 0; left--)
                    brought += await Rectangle(pixels, cancellation).ConfigureAwait(false);
                return brought;
            case 1: // SetColourMapEntries
                var map = await Read(5, cancellation).ConfigureAwait(false);
                await Skip(BinaryPrimitives.ReadUInt16BigEndian(map.AsSpan(3)) * 6u, cancellation)
                    .ConfigureAwait(false);
                return null;
            case 2: // Bell
                return null;
            case 3: // ServerCutText
                var text = await Read(7, cancellation).ConfigureAwait(false);
                await Skip(BinaryPrimitives.ReadUInt32BigEndian(text.AsSpan(3)), cancellation).ConfigureAwait(false);
                return null;
            case var other:
                throw new IOException($"the display sent a message {other}");
        }
    }

    private async Task<long> Rectangle(byte[]? pixels, CancellationToken cancellation)
    {
        var head = await Read(12, cancellation).ConfigureAwait(false);
        ushort At(int place) => BinaryPrimitives.ReadUInt16BigEndian(head.AsSpan(place));
        var (left, top, wide, high) = (At(0), At(2), At(4), At(6));
        var encoding = BinaryPrimitives.ReadInt32BigEndian(head.AsSpan(8));
        if (encoding == NewSize)
        {
            await pace.Spend(NewSizeCost, cancellation).ConfigureAwait(false);
            Resize(wide, high);
            return 0;
        }

        await pace.Spend(1, cancellation).ConfigureAwait(false);
        if (encoding != Raw || left + wide > width || top + high > height)
            throw new IOException("the display sent what was not asked for");
        if (pixels is null)
            await Pass((long)wide * high * 4, cancellation).ConfigureAwait(false);
        else
            for (var (y, read) = ((int)top, 0); y < top + high; y++)
            {
                await stream
                    .ReadExactlyAsync(pixels.AsMemory(((y * width) + left) * 4, wide * 4), cancellation)
                    .ConfigureAwait(false);
                for (read += wide * 4; read >= Piece; read -= Piece)
                    await pace.Spend(1, cancellation).ConfigureAwait(false);
            }

        return (long)wide * high;
    }

    private async Task<byte[]> Read(int length, CancellationToken cancellation)
    {
        var bytes = new byte[length];
        await stream.ReadExactlyAsync(bytes, cancellation).ConfigureAwait(false);
        return bytes;
    }

    private Task Skip(uint length, CancellationToken cancellation) =>
        length > LongestText
            ? throw new IOException($"the display sent a text of {length} bytes")
            : Pass(length, cancellation);

    private async Task Pass(long length, CancellationToken cancellation)
    {
        var piece = ArrayPool<byte>.Shared.Rent(Piece);
        try
        {
            for (; length > 0; length -= Math.Min(length, Piece))
            {
                await stream
                    .ReadExactlyAsync(piece.AsMemory(0, (int)Math.Min(length, Piece)), cancellation)
                    .ConfigureAwait(false);
                if (length >= Piece)
                    await pace.Spend(1, cancellation).ConfigureAwait(false);
            }
        }
        finally
        {
            ArrayPool<byte>.Shared.Return(piece);
        }
    }
}
