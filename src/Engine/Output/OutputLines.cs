using System.Buffers;
using System.Text;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Engine.Output;

/// <summary>One line that a program printed.</summary>
/// <param name="Place">Where its first byte lies in all of the service's output.</param>
/// <param name="At">When its first byte came; null: it was written before there were times.</param>
/// <param name="Ended">False: it goes on, or the program ended within it.</param>
/// <param name="Bytes">All of it but its end, also what is not in the text of a very long one.</param>
internal sealed record OutputLine(
    long Place,
    DateTimeOffset? At,
    OutputSource Source,
    string Text,
    bool Ended,
    long Bytes
);

/// <summary>
/// Lines of a service's output from a place on, each stream for itself, in the order in which they ended. Stamps of the file
/// are not part of them.
/// </summary>
/// <param name="to">The place it reads up to; null: on and on.</param>
/// <param name="fits">Lines that are wanted; null: all. Of the others no text is made, however long they are.</param>
internal sealed class OutputLines(
    string folder,
    long from,
    string encoding,
    long? to = null,
    OutputLines.Wanted? fits = null
) : IDisposable
{
    public delegate bool Wanted(OutputSource source, ReadOnlySpan<char> text);

    /// <summary>Of a longer line, the beginning.</summary>
    public const int LongestLine = 1 << 20;

    private readonly Encoding characters = Of(encoding);
    private readonly byte[] block = new byte[1 << 16];
    private readonly SegmentReader reader = new(folder, from);
    private readonly Open output = new(),
        error = new(),
        sentry = new();
    private readonly Queue<OutputLine> ready = new();
    private MarkReader? marks;
    private long marksOf = -1;
    private OutputMark? now,
        next;

    /// <summary>The place of the next byte that is read.</summary>
    public long At => reader.At;

    /// <summary>The place it reads up to; null: on and on.</summary>
    public long? To { get; set; } = to;

    static OutputLines() => Encoding.RegisterProvider(CodePagesEncodingProvider.Instance);

    /// <summary>Whether characters of an encoding have two bytes and more, so that the byte of a line feed ends no line.</summary>
    public static bool IsWide(string name) => Of(name) is UnicodeEncoding;

    public static Encoding Of(string name) => name == OutputPart.Utf8 ? Encoding.UTF8 : Encoding.GetEncoding(name);

    /// <returns>Null: no line has ended since; ask again when there is more.</returns>
    public OutputLine? Next()
    {
        while (ready.Count == 0)
        {
            var most = To is { } end ? (int)Math.Clamp(end - reader.At, 0, block.Length) : block.Length;
            var got = most == 0 ? 0 : reader.Read(block.AsSpan(0, most));
            if (got == 0)
                return null;
            var place = reader.At - got;
            Take(reader.Segment!, place - reader.Segment!.Start, block.AsSpan(0, got));
        }

        return ready.Dequeue();
    }

    /// <summary>Holds no file open until it is asked again; where it was, and what has begun, it knows.</summary>
    public void LetGo()
    {
        reader.LetGo();
        marks?.Dispose();
        (marks, marksOf, next) = (null, -1, null);
    }

    /// <summary>What has begun and not ended, as lines.</summary>
    public IEnumerable<OutputLine> Rest()
    {
        End(ended: false);
        while (ready.TryDequeue(out var line))
            yield return line;
    }

    /// <summary>Bytes of one segment from an offset in it on, taken apart by its marks.</summary>
    private void Take(Segment segment, long offset, ReadOnlySpan<byte> bytes)
    {
        if (marksOf != segment.Number)
        {
            // A run may have begun at its very end.
            for (next ??= marks?.Next(); next is { } mark; next = marks!.Next())
                if (mark.Source == OutputSource.Begins)
                    End(ended: false);
            marks?.Dispose();
            (marks, marksOf, now, next) = (new(segment, offset), segment.Number, null, null);
            if (offset == 0)
                (output.Goes, error.Goes) = (segment.Head.OutputOpen, segment.Head.ErrorOpen);
        }

        while (bytes.Length > 0)
        {
            // A mark is written before what it tells of: all that there are of these bytes can be read now.
            for (next ??= marks!.Next(); next is { } mark && mark.Offset <= offset; next = marks!.Next())
                if (mark.Source != OutputSource.Begins)
                    now = mark;
                else if (mark.Offset == offset)
                    End(ended: false);
            var length = next is { } until ? (int)Math.Min(bytes.Length, until.Offset - offset) : bytes.Length;
            Add(segment, segment.Start + offset, bytes[..length]);
            bytes = bytes[length..];
            offset += length;
        }
    }

    private void Add(Segment segment, long place, ReadOnlySpan<byte> bytes)
    {
        var source = now?.Source ?? OutputSource.Output;
        var line = source switch
        {
            OutputSource.Error => error,
            OutputSource.Sentry => sentry,
            _ => output,
        };
        while (bytes.Length > 0)
        {
            if (line is { Begun: false, Goes: false } && segment.Head.Stamped && source != OutputSource.Sentry)
                line.ToSkip = OutputForm.StampLength;
            if (!line.Begun)
                line.Begin(place, now?.AtMs, source);
            var stamp = Math.Min(line.ToSkip, bytes.Length);
            line.ToSkip -= stamp;
            bytes = bytes[stamp..];
            place += stamp;
            var end = EndOf(line, bytes);
            var part = end < 0 ? bytes : bytes[..end];
            line.Add(part);
            bytes = bytes[part.Length..];
            place += part.Length;
            if (end < 0)
                return;
            Finish(line, ended: true);
        }
    }

    /// <summary>Bytes up to and with the end of its line; less than 0: it does not end in these.</summary>
    private int EndOf(Open line, ReadOnlySpan<byte> bytes)
    {
        if (characters is not UnicodeEncoding wide)
            return bytes.IndexOf((byte)'\n') is >= 0 and var at ? at + 1 : -1;
        // Two bytes a unit: the second of a pair may lie in the next part.
        var low = wide.CodePage == 1200 ? 0 : 1;
        for (var i = 0; i < bytes.Length; i++)
        {
            var second = (line.Length + i) % 2 == 1;
            if (!second)
                continue;
            var before = i > 0 ? bytes[i - 1] : line.Last;
            var (high, unit) = low == 0 ? (bytes[i], before) : (before, bytes[i]);
            if (high == 0 && unit == (byte)'\n')
                return i + 1;
        }

        return -1;
    }

    private void End(bool ended)
    {
        foreach (var line in (ReadOnlySpan<Open>)[output, error, sentry])
        {
            if (line.Begun)
                Finish(line, ended);
            line.Goes = false;
        }
    }

    private void Finish(Open line, bool ended)
    {
        var room = ArrayPool<char>.Shared.Rent(characters.GetMaxCharCount(line.Bytes.Length));
        var text = room.AsSpan(0, characters.GetChars(line.Bytes, room))
            .TrimEnd('\n')
            .TrimEnd('\r')
            .TrimStart('\uFEFF');
        if (fits?.Invoke(line.Source, text) != false)
            ready.Enqueue(
                new(
                    line.Place,
                    line.AtMs is { } at ? DateTimeOffset.FromUnixTimeMilliseconds(at) : null,
                    line.Source,
                    text.ToString(),
                    ended,
                    line.Length
                        - (
                            !ended ? 0
                            : characters is UnicodeEncoding ? 2
                            : 1
                        )
                )
            );
        ArrayPool<char>.Shared.Return(room);
        line.Clear();
    }

    public void Dispose() => LetGo();

    /// <summary>A line that has begun.</summary>
    private sealed class Open
    {
        private readonly ArrayBufferWriter<byte> bytes = new();

        public bool Begun { get; private set; }

        /// <summary>It began in a segment before what is read.</summary>
        public bool Goes { get; set; }

        public int ToSkip { get; set; }

        public long Place { get; private set; }

        public long? AtMs { get; private set; }

        public OutputSource Source { get; private set; }

        public long Length { get; private set; }

        public byte Last { get; private set; }

        public ReadOnlySpan<byte> Bytes => bytes.WrittenSpan;

        public void Begin(long place, long? atMs, OutputSource source)
        {
            (Begun, Place, AtMs, Source) = (true, place, atMs, source);
        }

        public void Add(ReadOnlySpan<byte> more)
        {
            if (more.Length == 0)
                return;
            Length += more.Length;
            Last = more[^1];
            if (bytes.WrittenCount < LongestLine)
                bytes.Write(more[..Math.Min(more.Length, LongestLine - bytes.WrittenCount)]);
        }

        public void Clear()
        {
            (Begun, Goes, Length, ToSkip) = (false, false, 0, 0);
            bytes.ResetWrittenCount();
        }
    }
}
