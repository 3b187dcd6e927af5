using CalmSentry.Contract.Keeper;

namespace CalmSentry.Engine.Output;

/// <summary>
/// When the bytes of a segment came and by which stream, in their order. At the end of what there is it can be asked again.
/// </summary>
internal sealed class MarkReader : IDisposable
{
    private const int Most = 1024;

    private readonly Stream? times;
    private readonly byte[] block = new byte[OutputMark.Length * Most];
    private int at,
        held;

    /// <param name="offset">Bytes of the segment before which only the last mark counts.</param>
    public MarkReader(Segment segment, long offset)
    {
        times = segment.Number == 0 ? null : Segments.OpenTimes(segment.Folder, segment.Number);
        if (times is FileStream file)
            file.Position = SegmentHead.Length + (Before(file, offset) * OutputMark.Length);
        else
            times?.ReadAtLeast(new byte[SegmentHead.Length], SegmentHead.Length, throwOnEndOfStream: false);
    }

    /// <summary>How many marks there are before the last one at or before the offset.</summary>
    private long Before(FileStream file, long offset)
    {
        var (low, high) = (0L, Math.Max(0, (file.Length - SegmentHead.Length) / OutputMark.Length));
        while (high - low > 1)
        {
            var middle = (low + high) / 2;
            file.Position = SegmentHead.Length + (middle * OutputMark.Length);
            file.ReadExactly(block, 0, OutputMark.Length);
            if (OutputMark.Read(block).Offset < offset)
                low = middle;
            else
                high = middle;
        }

        return low;
    }

    /// <returns>Null: there is none after the last one, for now.</returns>
    public OutputMark? Next()
    {
        if (held - at < OutputMark.Length)
        {
            block.AsSpan(at, held - at).CopyTo(block);
            (at, held) = (0, held - at);
            held += times?.ReadAtLeast(block.AsSpan(held), OutputMark.Length - held, throwOnEndOfStream: false) ?? 0;
            if (held < OutputMark.Length)
                return null;
        }

        at += OutputMark.Length;
        return OutputMark.Read(block.AsSpan(at - OutputMark.Length));
    }

    public void Dispose() => times?.Dispose();
}
