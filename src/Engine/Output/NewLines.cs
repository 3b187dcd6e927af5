using System.Buffers;
using System.Text;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Whole lines as they are added to a file. However fast and however oddly a program prints, one look reads so much and
/// no
/// more: what is left is read at the next. Of a line longer than may be, the beginning counts.
/// </summary>
internal sealed class NewLines(string folder, long from)
{
    /// <summary>Bytes and lines of one look, and bytes of one line.</summary>
    private const int MostBytes = 1 << 20,
        MostLines = 5000,
        LongestLine = 64 << 10;

    private readonly byte[] block = new byte[65536];
    private readonly ArrayBufferWriter<byte> open = new();
    private long at = from;

    public List<string> Next()
    {
        var lines = new List<string>();
        using var reader = new SegmentReader(folder, at);
        for (var read = 0; read < MostBytes && lines.Count < MostLines; )
        {
            var got = reader.Read(block);
            if (got == 0)
                break;
            var used = Take(block.AsSpan(0, got), lines);
            read += used;
            at = reader.At - (got - used);
        }

        return lines;
    }

    /// <summary>The line that has begun and not ended.</summary>
    public string? Rest()
    {
        if (open.WrittenCount == 0)
            return null;
        var rest = Encoding.UTF8.GetString(open.WrittenSpan);
        open.ResetWrittenCount();
        return rest;
    }

    /// <returns>How much of it was taken: all, unless there were lines enough.</returns>
    private int Take(ReadOnlySpan<byte> some, List<string> lines)
    {
        var used = 0;
        while (used < some.Length)
        {
            var end = some[used..].IndexOf((byte)'\n');
            var part = end < 0 ? some[used..] : some.Slice(used, end);
            if (open.WrittenCount < LongestLine)
                open.Write(part[..Math.Min(part.Length, LongestLine - open.WrittenCount)]);
            used += part.Length;
            if (end < 0)
                break;
            used++;
            lines.Add(Encoding.UTF8.GetString(open.WrittenSpan).TrimEnd('\r'));
            open.ResetWrittenCount();
            if (lines.Count >= MostLines)
                break;
        }

        return used;
    }
}
