using System.Globalization;
using System.IO.Compression;
using CalmSentry.Contract.Keeper;

namespace CalmSentry.Engine.Output;

/// <summary>One file of a service's output: the current one, or one that was turned over.</summary>
/// <param name="Number">0: a file of before there were times.</param>
/// <param name="Start">The place of its first byte in all of the service's output.</param>
/// <param name="Path">Null: its bytes are gone.</param>
internal sealed record Segment(string Folder, long Number, long Start, SegmentHead Head, string? Path)
{
    public bool Packed => Path?.EndsWith(OutputForm.Packed, StringComparison.Ordinal) == true;

    /// <summary>Its bytes from an offset on, also of a packed file; null: they are gone.</summary>
    public Stream? Open(long offset)
    {
        if (Path is null)
            return null;
        try
        {
            var file = OutputFile.Open(Path);
            if (!Packed)
            {
                file.Position = Math.Min(offset, file.Length);
                return file;
            }

            var bytes = new GZipStream(file, CompressionMode.Decompress);
            Skip(bytes, offset);
            return bytes;
        }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException)
        {
            return null;
        }
    }

    private static void Skip(Stream stream, long bytes)
    {
        var into = new byte[(int)Math.Min(bytes, 1 << 16)];
        while (bytes > 0)
        {
            var got = stream.Read(into, 0, (int)Math.Min(bytes, into.Length));
            if (got == 0)
                return;
            bytes -= got;
        }
    }
}

/// <summary>All that is kept of a service's output, as one stretch of bytes (<see cref="OutputForm"/>).</summary>
internal static class Segments
{
    /// <summary>In their order; at least one, the current, which may have no file yet.</summary>
    public static IReadOnlyList<Segment> Of(string folder)
    {
        var all = Backwards(folder).ToList();
        all.Reverse();
        return all;
    }

    /// <summary>The latest first, each looked at only when it is asked for; at least one.</summary>
    public static IEnumerable<Segment> Backwards(string folder)
    {
        var numbers = Numbers(folder);
        var any = false;
        for (var i = numbers.Count - 1; i >= 0; i--)
        {
            if (At(folder, numbers[i], i == numbers.Count - 1) is not { } segment)
                continue;
            any = true;
            yield return segment;
        }

        if (!any)
            yield return Untimed(folder);
    }

    /// <summary>In their order, from the one on in which a place lies; at least one.</summary>
    public static IReadOnlyList<Segment> From(string folder, long place)
    {
        var all = new List<Segment>();
        foreach (var segment in Backwards(folder))
        {
            all.Add(segment);
            if (segment.Start <= place)
                break;
        }

        all.Reverse();
        return all;
    }

    /// <summary>The place behind the last byte that is kept.</summary>
    public static long End(string folder) => EndOf(Last(folder));

    /// <summary>How much was ever written, and when last; null: nothing yet. That a file is turned over writes nothing.</summary>
    public static (long Length, DateTime Written)? Written(string folder)
    {
        try
        {
            return LastWritten(folder);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            // As where no file can be opened: then the current file alone says when.
            return new FileInfo(Path.Combine(folder, OutputForm.Current)) is { Exists: true } file
                ? (file.Length, file.LastWriteTimeUtc)
                : null;
        }
    }

    private static (long Length, DateTime Written)? LastWritten(string folder)
    {
        var numbers = Numbers(folder);
        var end = End(folder);
        for (var i = Math.Max(0, numbers.Count - 1); i >= 0; i--)
        {
            var path = numbers.Count == 0 ? Untimed(folder).Path : FileOf(folder, numbers[i], i == numbers.Count - 1);
            if (path is not null && new FileInfo(path) is { Exists: true, Length: > 0 } file)
                return (end, file.LastWriteTimeUtc);
        }

        return null;
    }

    /// <summary>Numbers of the segments whose times are kept, ascending.</summary>
    public static IReadOnlyList<long> Numbers(string folder)
    {
        var times = Path.Combine(folder, OutputForm.Times);
        return Directory.Exists(times)
            ?
            [
                .. Directory
                    .EnumerateFiles(times)
                    .Select(name => NumberOf(Path.GetFileName(name)))
                    .Where(number => number > 0)
                    .Distinct()
                    .Order(),
            ]
            : [];
    }

    /// <summary>The one that is written to.</summary>
    public static Segment Last(string folder) => Backwards(folder).First();

    private static Segment? At(string folder, long number, bool last) =>
        HeadOf(folder, number) is { } head ? new(folder, number, head.Start, head, FileOf(folder, number, last)) : null;

    private static Segment Untimed(string folder) =>
        new(folder, 0, 0, default, Path.Combine(folder, OutputForm.Current));

    /// <summary>The place behind its last byte, of one that is not packed.</summary>
    public static long EndOf(Segment segment) => segment.Start + (segment.Path is { } path ? Length(path) : 0);

    /// <summary>The file of a segment as it is now: it may have been turned over or packed since.</summary>
    private static string? FileOf(string folder, long number, bool last)
    {
        var turned = Path.Combine(folder, OutputForm.TurnedOver(number));
        if (File.Exists(turned))
            return turned;
        if (File.Exists(turned + OutputForm.Packed))
            return turned + OutputForm.Packed;
        return last ? Path.Combine(folder, OutputForm.Current) : null;
    }

    public static Stream? OpenTimes(string folder, long number)
    {
        var path = Path.Combine(folder, OutputForm.TimesOf(number));
        try
        {
            return File.Exists(path) ? OutputFile.Open(path)
                : File.Exists(path + OutputForm.Packed)
                    ? new GZipStream(OutputFile.Open(path + OutputForm.Packed), CompressionMode.Decompress)
                : null;
        }
        catch (FileNotFoundException)
        {
            return null;
        }
    }

    private static SegmentHead? HeadOf(string folder, long number)
    {
        using var times = OpenTimes(folder, number);
        var head = new byte[SegmentHead.Length];
        return times?.ReadAtLeast(head, head.Length, throwOnEndOfStream: false) == head.Length
            ? SegmentHead.Read(head)
            : null;
    }

    public static long Length(string path) => File.Exists(path) ? new FileInfo(path).Length : 0;

    private static long NumberOf(string name) =>
        long.TryParse(name.Split('.')[0], NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : 0;
}

/// <summary>
/// Bytes of a service's output from a place on, one segment after the other. At the end of what there is it says so, and can be
/// asked again; a file that is turned over under it is read to its end first, for it has it open.
/// </summary>
internal sealed class SegmentReader(string folder, long from) : IDisposable
{
    private Segment? segment;
    private Stream? stream;

    /// <summary>The place of the next byte.</summary>
    public long At { get; private set; } = from;

    /// <summary>The segment that the last bytes came from.</summary>
    public Segment? Segment => segment;

    /// <returns>How many bytes were read: 0 at the end of what there is now.</returns>
    public int Read(Span<byte> into)
    {
        while (stream is not null || OpenAt())
        {
            if (Take(into) is > 0 and var got)
                return got;
            if (Next() is not { } next)
                return 0;
            // What was written between our last look and the turning over.
            if (Take(into) is > 0 and var more)
                return more;
            stream!.Dispose();
            stream = null;
            At = Math.Max(At, next.Start);
        }

        return 0;
    }

    private int Take(Span<byte> into)
    {
        if (stream is FileStream file && file.Length < file.Position)
            return 0; // emptied by hand: what comes is another segment's
        var got = stream!.Read(into);
        At += got;
        return got;
    }

    private Segment? Next()
    {
        if (segment is { Number: 0 } && Segments.Of(folder)[0] is { Number: > 0, Start: 0 } timed)
            segment = timed; // the same file, with times from now on
        return Segments.Backwards(folder).TakeWhile(one => one.Number > segment!.Number).LastOrDefault();
    }

    private bool OpenAt()
    {
        foreach (var one in Segments.From(folder, At))
        {
            At = Math.Max(At, one.Start);
            if (one.Open(At - one.Start) is not { } opened)
                continue;
            (segment, stream) = (one, opened);
            return true;
        }

        return false;
    }

    /// <summary>Holds nothing open until it is asked again.</summary>
    public void LetGo()
    {
        stream?.Dispose();
        stream = null;
    }

    public void Dispose() => LetGo();
}
