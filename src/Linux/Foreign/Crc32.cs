namespace CalmSentry.Linux.Foreign;

/// <summary>Reads something, and sums up what was read (CRC-32, RFC 1952, section 8): an archive says what it must come to.</summary>
internal sealed class Crc32(Stream from) : Stream
{
    private static readonly uint[] Table = Make();

    private uint sum = uint.MaxValue;

    /// <summary>The sum of all that was read until now.</summary>
    public uint Sum => ~sum;

    private static uint[] Make()
    {
        var table = new uint[256];
        for (var i = 0u; i < table.Length; i++)
        {
            var one = i;
            for (var bit = 0; bit < 8; bit++)
                one = (one & 1) == 0 ? one >> 1 : (one >> 1) ^ 0xEDB88320;
            table[i] = one;
        }

        return table;
    }

    public override int Read(Span<byte> buffer)
    {
        var got = from.Read(buffer);
        foreach (var one in buffer[..got])
            sum = Table[(byte)(sum ^ one)] ^ (sum >> 8);
        return got;
    }

    public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

    protected override void Dispose(bool disposing)
    {
        if (disposing)
            from.Dispose();
        base.Dispose(disposing);
    }

    public override bool CanRead => true;
    public override bool CanSeek => false;
    public override bool CanWrite => false;
    public override long Length => throw new NotSupportedException();

    public override long Position
    {
        get => throw new NotSupportedException();
        set => throw new NotSupportedException();
    }

    public override void Flush() { }

    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    public override void SetLength(long value) => throw new NotSupportedException();

    public override void Write(byte[] buffer, int offset, int count) => throw new NotSupportedException();
}
