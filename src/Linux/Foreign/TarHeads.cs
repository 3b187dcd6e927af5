using System.Text;

namespace CalmSentry.Linux.Foreign;

/// <summary>
/// A tar archive on its way to its reader, which takes the words between members (long names and the like) into memory, however long
/// they say they are: here they are bounded (pax, POSIX.1-2017 pax Interchange Format; tar(5)).
/// </summary>
internal sealed class TarHeads(Stream from) : Stream
{
    private const int Block = 512,
        LongestWords = 1 << 20;

    private readonly byte[] block = new byte[Block];
    private readonly MemoryStream words = new();
    private int have,
        given;
    private long left;
    private bool inWords;
    private long? nextSize;
    private long position;

    public const string Sparse =
        "it is a sparse file, which is packed in a way that is not taken: pack it without --sparse";

    /// <summary>What stands before the name in the head of the member that is read (ustar, POSIX.1-2017); else empty.</summary>
    public string Prefix { get; private set; } = "";

    public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

    public override int Read(Span<byte> buffer)
    {
        if (buffer.Length == 0)
            return 0;
        // Content of a member goes through as it is.
        if (left > 0 && !inWords && given == have)
        {
            var some = from.Read(buffer[..(int)Math.Min(buffer.Length, left)]);
            left -= some;
            position += some;
            return some;
        }

        if (given == have)
        {
            have = from.ReadAtLeast(block, Block, throwOnEndOfStream: false);
            given = 0;
            if (have == Block)
                Look();
        }

        var got = Math.Min(buffer.Length, have - given);
        block.AsSpan(given, got).CopyTo(buffer);
        given += got;
        position += got;
        return got;
    }

    /// <summary>A whole block: a head, or a piece of the words that one announced.</summary>
    private void Look()
    {
        if (inWords)
        {
            words.Write(block, 0, (int)Math.Min(Block, left));
            left -= Block;
            if (left > 0)
                return;
            left = 0;
            inWords = false;
            nextSize = SizeIn(Encoding.UTF8.GetString(words.GetBuffer(), 0, (int)words.Length)) ?? nextSize;
            words.SetLength(0);
            return;
        }

        if (block.AsSpan().IndexOfAnyExcept((byte)0) < 0)
            return; // the end
        var kind = (char)block[156];
        var size = Number(block.AsSpan(124, 12));
        if (kind is 'x' or 'g' or 'L' or 'K' or 'X')
        {
            if (size > LongestWords)
                throw new ArchiveException(
                    "the archive",
                    $"{size} bytes are said of one member, and at most {LongestWords} are taken"
                );
            (inWords, left) = (size > 0, size);
            return;
        }

        if (kind == 'S')
            throw new ArchiveException(Text(block.AsSpan(0, 100)), Sparse);
        // In GNU's own form other things stand there.
        Prefix = block.AsSpan(257, 6).SequenceEqual("ustar\0"u8) ? Text(block.AsSpan(345, 155)) : "";
        // Of links and directories no content follows, whatever they say.
        left = kind is '1' or '2' or '3' or '4' or '5' or '6' ? 0 : Rounded(nextSize ?? size);
        nextSize = null;
    }

    private static string Text(ReadOnlySpan<byte> field)
    {
        var end = field.IndexOf((byte)0);
        return Encoding.UTF8.GetString(end < 0 ? field : field[..end]);
    }

    private static long Rounded(long size) => (size + Block - 1) / Block * Block;

    /// <summary>The size that a pax extended header gives the next member.</summary>
    private static long? SizeIn(string text)
    {
        var at = text.IndexOf(" size=", StringComparison.Ordinal);
        if (at < 0)
            return null;
        var end = text.IndexOf('\n', at);
        return end > 0 && long.TryParse(text.AsSpan(at + 6, end - at - 6), out var size) && size >= 0 ? size : null;
    }

    /// <summary>Octal digits, or (of large ones) bytes behind a first bit that is set.</summary>
    private static long Number(ReadOnlySpan<byte> field)
    {
        long number = 0;
        if ((field[0] & 0x80) != 0)
        {
            foreach (var one in field[4..])
                number = (number << 8) | one;
            return number < 0 ? long.MaxValue - Block : number;
        }

        foreach (var one in field)
            if (one is >= (byte)'0' and <= (byte)'7')
                number = (number << 3) | (uint)(one - '0');
        return number;
    }

    public override bool CanRead => true;
    public override bool CanSeek => false;
    public override bool CanWrite => false;
    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => position;
        set => throw new NotSupportedException();
    }

    public override void Flush() { }

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
}
