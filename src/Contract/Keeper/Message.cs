using System.Buffers.Binary;
using System.Buffers.Text;
using System.Text;

namespace CalmSentry.Contract.Keeper;

/// <summary>
/// The form of every message on a keeper's socket, and of the files a keeper leaves behind: a 5-byte head
/// (u32 little-endian length of the body, u8 <see cref="KeeperWord"/>), then fields as <c>key=value</c>, each closed by
/// NUL,
/// like the kernel's own environment blocks. Paths and arguments cannot hold NUL, so any value passes unescaped,
/// and the keeper can hand pointers into the body straight to execve(2).
/// </summary>
public sealed class Message(KeeperWord word)
{
    public const int HeadLength = 5;

    /// <summary>
    /// Longest body taken, in bytes; over what the kernel allows for arguments and environment together.
    /// </summary>
    public const int LongestBody = 4 * 1024 * 1024;

    private byte[] bytes = Start(word);
    private int length = HeadLength;

    private static byte[] Start(KeeperWord word)
    {
        var start = new byte[128];
        start[4] = (byte)word;
        return start;
    }

    /// <exception cref="ArgumentException">The value holds NUL: what follows it would be another field.</exception>
    public Message With(string key, ReadOnlySpan<char> value)
    {
        if (value.Contains('\0'))
            throw new ArgumentException("a value cannot hold NUL", nameof(value));
        var room = Room(key.Length + 1 + Encoding.UTF8.GetMaxByteCount(value.Length) + 1);
        var at = Encoding.UTF8.GetBytes(key, room);
        room[at++] = (byte)'=';
        at += Encoding.UTF8.GetBytes(value, room[at..]);
        room[at++] = 0;
        length += at;
        return this;
    }

    public Message With(string key, long value)
    {
        Span<char> digits = stackalloc char[20];
        value.TryFormat(digits, out var count);
        return With(key, digits[..count]);
    }

    /// <summary>The whole message, head included. Valid until the next <c>With</c>.</summary>
    public ReadOnlyMemory<byte> ToBytes()
    {
        BinaryPrimitives.WriteInt32LittleEndian(bytes, length - HeadLength);
        return bytes.AsMemory(0, length);
    }

    private Span<byte> Room(int more)
    {
        if (bytes.Length < length + more)
            Array.Resize(ref bytes, Math.Max(bytes.Length * 2, length + more));
        return bytes.AsSpan(length);
    }

    /// <summary>Reads a head. False when fewer than <see cref="HeadLength"/> bytes are there yet.</summary>
    /// <exception cref="InvalidDataException">The length is negative or over <see cref="LongestBody"/>.</exception>
    public static bool TryReadHead(ReadOnlySpan<byte> from, out KeeperWord word, out int bodyLength)
    {
        word = KeeperWord.None;
        bodyLength = 0;
        if (from.Length < HeadLength)
            return false;
        bodyLength = BinaryPrimitives.ReadInt32LittleEndian(from);
        word = (KeeperWord)from[4];
        if (bodyLength is < 0 or > LongestBody)
            throw new InvalidDataException("keeper message of impossible length");
        return true;
    }

    /// <summary>The first value of a key as text, or null.</summary>
    public static string? Text(ReadOnlySpan<byte> body, string key)
    {
        foreach (var field in new Fields(body))
            if (field.Is(key))
                return Encoding.UTF8.GetString(field.Value);
        return null;
    }

    /// <summary>The first value of a key as a whole number, or <paramref name="otherwise"/>.</summary>
    public static long Number(ReadOnlySpan<byte> body, string key, long otherwise = 0)
    {
        foreach (var field in new Fields(body))
            if (field.Is(key) && Utf8Parser.TryParse(field.Value, out long number, out _))
                return number;
        return otherwise;
    }
}

/// <summary>
/// One <c>key=value</c>. <see cref="Offset"/> is where the value begins in the body; a NUL follows it.
/// </summary>
public readonly ref struct Field(ReadOnlySpan<byte> key, ReadOnlySpan<byte> value, int offset)
{
    public ReadOnlySpan<byte> Key { get; } = key;

    public ReadOnlySpan<byte> Value { get; } = value;

    public int Offset { get; } = offset;

    public bool Is(string key)
    {
        if (Key.Length != key.Length)
            return false;
        for (var i = 0; i < key.Length; i++)
            if (Key[i] != key[i])
                return false;
        return true;
    }
}

/// <summary>Walks the fields of a body without allocating.</summary>
public ref struct Fields(ReadOnlySpan<byte> body)
{
    private readonly ReadOnlySpan<byte> body = body;
    private int next;

    public Field Current { get; private set; }

    public readonly Fields GetEnumerator() => this;

    public bool MoveNext()
    {
        while (next < body.Length)
        {
            var rest = body[next..];
            var end = rest.IndexOf((byte)0);
            if (end < 0)
                return false;
            var equals = rest[..end].IndexOf((byte)'=');
            var begin = next;
            next += end + 1;
            if (equals < 0)
                continue;
            Current = new Field(rest[..equals], rest[(equals + 1)..end], begin + equals + 1);
            return true;
        }

        return false;
    }
}
