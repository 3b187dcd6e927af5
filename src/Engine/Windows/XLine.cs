using System.Buffers.Binary;
using System.Net.Sockets;
using System.Text;

namespace CalmSentry.Engine.Windows;

/// <summary>
/// A line to a display as its programs have one (X Window System Protocol, version 11; encoding in its appendix B), with the few requests
/// that say which windows stand there. The display is the account's: whatever it sends is bounded.
/// </summary>
internal sealed class XLine : IAsyncDisposable
{
    private const string KeyKind = "MIT-MAGIC-COOKIE-1";

    /// <summary>Of one answer, in bytes.</summary>
    private const int LongestAnswer = 1 << 20;

    private const int Unit = 32,
        Most = 16;

    private readonly NetworkStream stream;
    private readonly Pace pace = new();
    private readonly Dictionary<string, uint> atoms = new(StringComparer.Ordinal);

    private XLine(NetworkStream stream) => this.stream = stream;

    /// <summary>The window that all top-level windows lie in.</summary>
    public uint Root { get; private set; }

    public ValueTask DisposeAsync() => stream.DisposeAsync();

    /// <param name="socket">A fresh connection to the display, which is this line's from here on.</param>
    /// <param name="key">16 bytes.</param>
    /// <exception cref="IOException">It is gone, lets nobody in, or speaks otherwise.</exception>
    public static async Task<XLine> Open(Socket socket, byte[] key, CancellationToken cancellation)
    {
        var line = new XLine(new NetworkStream(socket, ownsSocket: true));
        try
        {
            await line.Begin(key, cancellation).ConfigureAwait(false);
            return line;
        }
        catch
        {
            await line.DisposeAsync().ConfigureAwait(false);
            throw;
        }
    }

    private async Task Begin(byte[] key, CancellationToken cancellation)
    {
        var order = new byte[12 + Padded(KeyKind.Length) + Padded(key.Length)];
        (order[0], order[2]) = ((byte)'l', 11);
        (order[6], order[8]) = ((byte)KeyKind.Length, (byte)key.Length);
        Encoding.ASCII.GetBytes(KeyKind).CopyTo(order, 12);
        key.CopyTo(order, 12 + Padded(KeyKind.Length));
        await stream.WriteAsync(order, cancellation).ConfigureAwait(false);
        var head = await Read(8, cancellation).ConfigureAwait(false);
        var rest = await Read(Bounded(4L * BinaryPrimitives.ReadUInt16LittleEndian(head.AsSpan(6))), cancellation)
            .ConfigureAwait(false);
        if (head[0] != 1)
            throw new IOException("the display lets nobody in");
        if (rest.Length < Unit)
            throw new IOException("the display speaks otherwise");
        var screens = Unit + Padded(BinaryPrimitives.ReadUInt16LittleEndian(rest.AsSpan(16))) + (8 * rest[21]);
        if (rest.Length < screens + 4)
            throw new IOException("the display speaks otherwise");
        Root = Number(rest, screens);
        // SubstructureNotify: what comes, goes and moves in the root.
        await Send([2, 0, 4, 0, .. Bytes(Root), 0, 8, 0, 0, .. Bytes(0x80000)], cancellation).ConfigureAwait(false);
    }

    /// <summary>Waits until a top-level window comes, goes or changes.</summary>
    /// <exception cref="IOException">The display is gone.</exception>
    public async Task Changed(CancellationToken cancellation)
    {
        while (!changed)
            Note(await Next(cancellation).ConfigureAwait(false));
        changed = false;
    }

    /// <summary>Something came, went or changed since <see cref="Changed"/> told so.</summary>
    private bool changed;

    private void Note(byte[] unit)
    {
        const int created = 16,
            configured = 22;
        changed |= (unit[0] & 0x7f) is >= created and <= configured;
    }

    /// <summary>The windows in one, the topmost last (QueryTree).</summary>
    public async Task<IReadOnlyList<uint>> Within(uint window, CancellationToken cancellation)
    {
        if (await Ask([15, 0, 2, 0, .. Bytes(window)], cancellation).ConfigureAwait(false) is not { } answer)
            return [];
        var count = Math.Min(BinaryPrimitives.ReadUInt16LittleEndian(answer.AsSpan(16)), (answer.Length - Unit) / 4);
        return [.. Enumerable.Range(0, count).Select(i => Number(answer, Unit + (4 * i)))];
    }

    /// <summary>
    /// Whether it can be seen, and whether its place is a manager's to say (GetWindowAttributes): that of menus, hints, and a manager's own
    /// frames is not.
    /// </summary>
    public async Task<(bool IsSeen, bool IsManaged)> Standing(uint window, CancellationToken cancellation)
    {
        const int viewable = 2;
        return await Ask([3, 0, 2, 0, .. Bytes(window)], cancellation).ConfigureAwait(false) is { Length: >= 44 } answer
            ? (answer[26] == viewable, answer[27] == 0)
            : default;
    }

    /// <summary>A property of a window (GetProperty), its first 256 bytes.</summary>
    /// <returns>Null: it has none.</returns>
    public async Task<byte[]?> Property(uint window, string name, CancellationToken cancellation)
    {
        var atom = await Atom(name, cancellation).ConfigureAwait(false);
        const uint units = 64;
        if (
            atom == 0
            || await Ask(
                    [20, 0, 6, 0, .. Bytes(window), .. Bytes(atom), .. Bytes(0), .. Bytes(0), .. Bytes(units)],
                    cancellation
                )
                .ConfigureAwait(false)
                is not { } answer
            || answer[1] == 0
        )
            return null;
        var length = Number(answer, 16) * (answer[1] / 8u);
        return answer[Unit..(int)Math.Min(Unit + (ulong)length, (ulong)answer.Length)];
    }

    /// <summary>The number that a name has on this display (InternAtom); 0: nobody has used it.</summary>
    public async Task<uint> Atom(string name, CancellationToken cancellation)
    {
        if (atoms.TryGetValue(name, out var known))
            return known;
        var length = Padded(name.Length);
        var order = new byte[8 + length];
        (order[0], order[1], order[2], order[4]) = (16, 1, (byte)(order.Length / 4), (byte)name.Length);
        Encoding.ASCII.GetBytes(name).CopyTo(order, 8);
        var atom = await Ask(order, cancellation).ConfigureAwait(false) is { } answer ? Number(answer, 8) : 0;
        if (atom != 0 && atoms.Count < Most)
            atoms[name] = atom;
        return atom;
    }

    /// <returns>Null: the window is gone.</returns>
    private async Task<byte[]?> Ask(byte[] order, CancellationToken cancellation)
    {
        await Send(order, cancellation).ConfigureAwait(false);
        while (true)
        {
            var unit = await Next(cancellation).ConfigureAwait(false);
            if (unit[0] == 0)
                return null;
            if (unit[0] == 1)
                return unit;
            Note(unit); // of what this look may not have seen: it takes several answers, one after the other
        }
    }

    private async Task Send(byte[] order, CancellationToken cancellation) =>
        await stream.WriteAsync(order, cancellation).ConfigureAwait(false);

    /// <summary>An error, an answer with all that belongs to it, or an event.</summary>
    private async Task<byte[]> Next(CancellationToken cancellation)
    {
        await pace.Spend(1, cancellation).ConfigureAwait(false);
        var unit = await Read(Unit, cancellation).ConfigureAwait(false);
        const int generic = 35;
        if (unit[0] != 1 && (unit[0] & 0x7f) != generic)
            return unit;
        var more = Bounded(4L * Number(unit, 4));
        return more == 0 ? unit : [.. unit, .. await Read(more, cancellation).ConfigureAwait(false)];
    }

    private async Task<byte[]> Read(int length, CancellationToken cancellation)
    {
        var bytes = new byte[length];
        await stream.ReadExactlyAsync(bytes, cancellation).ConfigureAwait(false);
        return bytes;
    }

    private static int Bounded(long length) =>
        length <= LongestAnswer ? (int)length : throw new IOException($"the display sent {length} bytes at once");

    private static int Padded(int length) => (length + 3) / 4 * 4;

    private static uint Number(byte[] from, int at) => BinaryPrimitives.ReadUInt32LittleEndian(from.AsSpan(at));

    private static byte[] Bytes(uint number)
    {
        var bytes = new byte[4];
        BinaryPrimitives.WriteUInt32LittleEndian(bytes, number);
        return bytes;
    }
}
