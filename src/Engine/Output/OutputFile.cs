using System.IO.Pipelines;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Reading what a program printed: the first lines of a run, the last lines, and what comes. A place is a number of bytes in
/// all of the service's output, wherever they lie by now (<see cref="Segments"/>).
/// </summary>
internal static class OutputFile
{
    private const int Block = 65536;

    /// <summary>Bytes that the first or last lines are looked for in, and characters of a line that are shown.</summary>
    private const int FirstBytes = 8192,
        LastBytes = 16 * 1024,
        LongestLine = 500;

    /// <summary>
    /// Last lines are looked for so far back, in bytes, and no farther: a program may print without ever ending a line.
    /// </summary>
    private const long FarthestBack = 64 << 20;

    /// <summary>Up to <paramref name="count"/> lines from a place on, where one begins.</summary>
    public static IReadOnlyList<string> FirstLines(string folder, string encoding, long place, int count) =>
        [.. Shown(folder, encoding, place, place + FirstBytes).Take(count)];

    /// <summary>The last <paramref name="count"/> lines between two places, at the first of which one begins.</summary>
    public static IReadOnlyList<string> LastLines(string folder, string encoding, long from, long to, int count)
    {
        var back = Math.Max(0, to - LastBytes - from) & ~1L; // characters of two bytes stay whole
        var lines = Shown(folder, encoding, from + back, to).ToList();
        // Where it is looked from, a line may have begun before.
        return [.. lines.Skip(back > 0 && lines.Count > 1 ? 1 : 0).TakeLast(count)];
    }

    /// <summary>The lines between two places that are not empty, each at most so long.</summary>
    private static IEnumerable<string> Shown(string folder, string encoding, long from, long to)
    {
        using var lines = new OutputLines(folder, from, encoding, to);
        while (lines.Next() is { } line)
            if (line.Text.Length > 0)
                yield return Cut(line.Text);
        foreach (var line in lines.Rest())
            if (line.Text.Length > 0)
                yield return Cut(line.Text);

        static string Cut(string line) => line.Length > LongestLine ? line[..LongestLine] + "…" : line;
    }

    /// <summary>
    /// The place where the last <paramref name="lines"/> lines begin that end in one byte, read backwards block by block.
    /// </summary>
    /// <returns>Whether they were found, too: so far back nobody looks for more.</returns>
    public static (long Place, bool All) StartOfLast(string folder, int lines)
    {
        var back = new LinesBack(lines);
        var start = 0L;
        foreach (var segment in Segments.Backwards(folder))
        {
            start = segment.Start;
            using var stream = segment.Open(0);
            if (stream is null)
                continue;
            if ((stream is FileStream file ? InFile(file, back) : InPacked(stream, back)) is { } offset)
                return (segment.Start + offset, back.Found);
            if (back.Passed >= FarthestBack)
                return (segment.Start, false);
        }

        return (start, true);
    }

    private static long? InFile(FileStream file, LinesBack back)
    {
        var block = new byte[Block];
        for (var at = file.Length; at > 0; )
        {
            var size = (int)Math.Min(Block, at);
            at -= size;
            file.Position = at;
            file.ReadExactly(block, 0, size);
            if (back.Look(block.AsSpan(0, size)) is { } found)
                return at + found;
            if (back.Passed >= FarthestBack)
                return at;
        }

        return null;
    }

    /// <summary>It can only be read forwards: of its bytes as many are kept as are looked at from the end.</summary>
    private static long? InPacked(Stream stream, LinesBack back)
    {
        var (block, before) = (new MemoryStream(), new MemoryStream());
        var part = new byte[Block];
        var passed = 0L; // what lies before both
        while (stream.Read(part) is > 0 and var got)
        {
            if (block.Length + got > FarthestBack)
            {
                passed += before.Length;
                (block, before) = (before, block);
                block.SetLength(0);
            }

            block.Write(part, 0, got);
        }

        if (back.Look(Bytes(block)) is { } late)
            return passed + before.Length + late;
        if (back.Look(Bytes(before)) is { } early)
            return passed + early;
        // Earlier ones are not looked at.
        return passed > 0 ? passed : null;

        static ReadOnlySpan<byte> Bytes(MemoryStream of) => of.GetBuffer().AsSpan(0, (int)of.Length);
    }

    /// <summary>Counts lines from the end of what there is.</summary>
    private sealed class LinesBack(int lines)
    {
        private long left = lines + 1L;
        private bool first = true;

        public long Passed { get; private set; }

        public bool Found => left == 0;

        /// <summary>The part before what was looked at last.</summary>
        /// <returns>Where in it the first of the wanted lines begins; null: before it.</returns>
        public int? Look(ReadOnlySpan<byte> part)
        {
            Passed += part.Length;
            if (first && part.Length > 0)
            {
                // The last line may still be without its end.
                if (part[^1] != '\n')
                    left--;
                first = false;
            }

            while (left > 0 && part.LastIndexOf((byte)'\n') is >= 0 and var end)
            {
                if (--left == 0)
                    return end + 1;
                part = part[..end];
            }

            return left == 0 ? part.Length : null;
        }
    }

    /// <summary>
    /// Copies from a place to the end and, when following, goes on with whatever is appended until cancelled.
    /// </summary>
    public static async Task Copy(string folder, long from, bool follow, PipeWriter to, CancellationToken cancellation)
    {
        using var growth = follow ? new Growth(folder) : null;
        using var reader = new SegmentReader(folder, from);
        while (!cancellation.IsCancellationRequested)
        {
            while (reader.Read(to.GetMemory(Block).Span) is > 0 and var got)
            {
                to.Advance(got);
                if ((await to.FlushAsync(cancellation)).IsCompleted)
                    return;
            }

            if (growth is null)
                return;
            await growth.Wait(cancellation);
        }
    }

    public static FileStream Open(string path) =>
        new(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1);
}

/// <summary>Wakes whoever follows output as soon as something was written.</summary>
internal sealed class Growth : IDisposable
{
    private readonly SemaphoreSlim grown = new(0, 1);
    private readonly FileSystemWatcher watcher;

    public Growth(string folder)
    {
        watcher = new(folder) { NotifyFilter = NotifyFilters.LastWrite | NotifyFilters.FileName };
        watcher.Changed += Wake;
        watcher.Created += Wake;
        watcher.EnableRaisingEvents = true;
    }

    private void Wake(object sender, FileSystemEventArgs change)
    {
        try
        {
            if (grown.CurrentCount == 0)
                grown.Release();
        }
        catch (Exception error) when (error is SemaphoreFullException or ObjectDisposedException)
        {
            // It was awake already, or nobody waits any more.
        }
    }

    public Task Wait(CancellationToken cancellation) => grown.WaitAsync(cancellation);

    public void Dispose()
    {
        watcher.Dispose();
        grown.Dispose();
    }
}
