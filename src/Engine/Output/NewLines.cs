using System.Buffers;
using System.Text;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Whole lines as they are added to a file. However fast and however oddly a program prints, one look reads so much and
/// no
/// more: what is left is read at the next. Of a line longer than may be, the beginning counts.
/// </summary>
internal sealed class NewLines(string folder, long from, string encoding)
{
    /// <summary>Bytes of one look, and characters of one line.</summary>
    private const int MostBytes = 1 << 20,
        LongestLine = 64 << 10;

    private readonly byte[] block = new byte[65536];
    private readonly Decoder decoder = OutputLines.Of(encoding).GetDecoder();
    private readonly char[] characters = new char[OutputLines.Of(encoding).GetMaxCharCount(65536)];
    private readonly ArrayBufferWriter<char> open = new();
    private long at = from;

    public List<string> Next()
    {
        var lines = new List<string>();
        using var reader = new SegmentReader(folder, at);
        for (var read = 0; read < MostBytes; )
        {
            var got = reader.Read(block);
            if (got == 0)
                break;
            Take(characters.AsSpan(0, decoder.GetChars(block.AsSpan(0, got), characters, flush: false)), lines);
            read += got;
            at = reader.At;
        }

        return lines;
    }

    /// <summary>The line that has begun and not ended.</summary>
    public string? Rest()
    {
        if (open.WrittenCount == 0)
            return null;
        var rest = open.WrittenSpan.ToString();
        open.ResetWrittenCount();
        return rest;
    }

    private void Take(ReadOnlySpan<char> some, List<string> lines)
    {
        while (some.Length > 0)
        {
            var end = some.IndexOf('\n');
            var part = end < 0 ? some : some[..end];
            if (open.WrittenCount < LongestLine)
                open.Write(part[..Math.Min(part.Length, LongestLine - open.WrittenCount)]);
            if (end < 0)
                return;
            some = some[(end + 1)..];
            lines.Add(open.WrittenSpan.TrimStart('\uFEFF').TrimEnd('\r').ToString());
            open.ResetWrittenCount();
        }
    }
}
