using System.Buffers.Binary;
using System.Globalization;

namespace CalmSentry.Contract.Keeper;

/// <summary>
/// How a service's output lies in its directory. The bytes are in <c>output.log</c>, just as the program wrote them (or with
/// a stamp before each line), and in what was turned over before: <c>output.N.log</c>, later <c>output.N.log.gz</c>. When
/// they came, and by which stream, stands in <c>times/N</c>, one file a segment: a head, then marks. A place in a
/// service's output is one number, the bytes that were ever kept of it before that place: no turning over changes it.
/// </summary>
public static class OutputForm
{
    public const string Current = "output.log",
        Times = "times",
        Packed = ".gz";

    public static string TurnedOver(long number) => string.Create(CultureInfo.InvariantCulture, $"output.{number}.log");

    public static string TimesOf(long number) => string.Create(CultureInfo.InvariantCulture, $"{Times}/{number}");

    /// <summary>Marks of one stream are at least so far apart: a line's time is known to this.</summary>
    public const int Precision = 10; // ms

    /// <summary>
    /// Bytes of the stamp before a line: the time in UTC to the millisecond (RFC 3339), a blank, a letter for the stream (o, e,
    /// t for a terminal), a blank.
    /// </summary>
    public const int StampLength = 27;

    /// <summary>A segment is turned over at the end of a line, unless none ends within so many bytes more.</summary>
    public const long LongestLine = 16 << 20;
}

/// <summary>Whose bytes follow.</summary>
public enum OutputSource : byte
{
    None = 0,
    Output = 1,
    Error = 2,
    Terminal = 3,

    /// <summary>A run begins here: each stream is at the beginning of a line.</summary>
    Begins = 4,

    /// <summary>Not the program's: a line in which the sentry says what is missing here.</summary>
    Sentry = 5,
}

/// <summary>That from an offset in the segment on, until the next mark, bytes came at a time by one stream.</summary>
/// <param name="AtMs">Milliseconds since 1970 in UTC, by the host's clock then.</param>
public readonly record struct OutputMark(long AtMs, OutputSource Source, long Offset)
{
    public const int Length = 16;

    public void Write(Span<byte> into)
    {
        BinaryPrimitives.WriteInt64LittleEndian(into, (AtMs << 8) | (byte)Source);
        BinaryPrimitives.WriteInt64LittleEndian(into[8..], Offset);
    }

    public static OutputMark Read(ReadOnlySpan<byte> from)
    {
        var first = BinaryPrimitives.ReadInt64LittleEndian(from);
        return new(first >> 8, (OutputSource)(byte)first, BinaryPrimitives.ReadInt64LittleEndian(from[8..]));
    }
}

/// <param name="Start">The place of its first byte in all of the service's output.</param>
/// <param name="Stamped">Each line has a stamp before it.</param>
/// <param name="OutputOpen">A line of standard output that began in the segment before goes on here.</param>
public readonly record struct SegmentHead(long Start, bool Stamped, bool OutputOpen, bool ErrorOpen)
{
    public const int Length = 32;

    /// <summary>It begins within a line of a stream.</summary>
    public bool IsOpen => OutputOpen || ErrorOpen;

    private static ReadOnlySpan<byte> Sign => "calm-out"u8;

    private const int Version = 1;

    public void Write(Span<byte> into)
    {
        into[..Length].Clear();
        Sign.CopyTo(into);
        into[8] = Version;
        into[9] = (byte)((Stamped ? 1 : 0) | (OutputOpen ? 2 : 0) | (ErrorOpen ? 4 : 0));
        BinaryPrimitives.WriteInt64LittleEndian(into[16..], Start);
    }

    /// <returns>Null: no head, as after a fall of the machine.</returns>
    public static SegmentHead? Read(ReadOnlySpan<byte> from)
    {
        if (from.Length < Length || !from.StartsWith(Sign) || from[8] != Version)
            return null;
        var start = BinaryPrimitives.ReadInt64LittleEndian(from[16..]);
        return start < 0 ? null : new(start, (from[9] & 1) != 0, (from[9] & 2) != 0, (from[9] & 4) != 0);
    }
}
