using System.IO.Pipelines;
using System.Text;

namespace CalmSentry.Server.Output;

/// <summary>Reading what a program printed: the first lines of a run, the last lines, and what comes.</summary>
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

    /// <summary>Bytes in it; 0 where there is none.</summary>
    public static long Length(string path) => File.Exists(path) ? new FileInfo(path).Length : 0;

    /// <summary>Up to <paramref name="count"/> lines from an offset on.</summary>
    public static IReadOnlyList<string> FirstLines(string path, long offset, int count) =>
        [.. Lines(path, offset, offset + FirstBytes).Take(count)];

    /// <summary>The last <paramref name="count"/> lines between two offsets.</summary>
    public static IReadOnlyList<string> LastLines(string path, long from, long to, int count) =>
        [.. Lines(path, Math.Max(from, to - LastBytes), to).TakeLast(count)];

    /// <summary>The lines between two offsets that are not empty, each at most so long; none when there is no file.</summary>
    private static List<string> Lines(string path, long from, long to)
    {
        try
        {
            using var file = Open(path);
            to = Math.Min(to, file.Length);
            if (from >= to)
                return [];
            file.Position = from;
            var bytes = new byte[to - from];
            var got = file.ReadAtLeast(bytes, bytes.Length, throwOnEndOfStream: false);
            return
            [
                .. Encoding
                    .UTF8.GetString(bytes, 0, got)
                    .Split('\n')
                    .Select(line => line.TrimEnd('\r'))
                    .Where(line => line.Length > 0)
                    .Select(line => line.Length > LongestLine ? line[..LongestLine] + "…" : line),
            ];
        }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException)
        {
            return [];
        }
    }

    /// <summary>Where the last <paramref name="lines"/> lines begin, read backwards block by block.</summary>
    public static long StartOfLast(FileStream file, int lines)
    {
        var block = new byte[Block];
        var at = file.Length;
        var left = lines + 1L;
        var first = true;
        var end = Math.Max(0, at - FarthestBack);
        while (at > end)
        {
            var size = (int)Math.Min(Block, at);
            at -= size;
            file.Position = at;
            file.ReadExactly(block, 0, size);
            for (var i = size - 1; i >= 0; i--)
            {
                if (block[i] != '\n')
                {
                    // The last line may still be without its end.
                    if (first)
                        left--;
                    first = false;
                    if (left == 0)
                        return at + i + 1;
                    continue;
                }

                first = false;
                if (--left == 0)
                    return at + i + 1;
            }
        }

        return at;
    }

    /// <summary>
    /// Copies from an offset to the end and, when following, goes on with whatever is appended until cancelled.
    /// </summary>
    public static async Task Copy(string path, long from, bool follow, PipeWriter to, CancellationToken cancellation)
    {
        using var grown = new SemaphoreSlim(0, 1);
        using var watcher = follow
            ? new FileSystemWatcher(Path.GetDirectoryName(path)!)
            {
                NotifyFilter = NotifyFilters.LastWrite | NotifyFilters.FileName,
            }
            : null;
        if (watcher is not null)
        {
            void Wake(object sender, FileSystemEventArgs change)
            {
                if (grown.CurrentCount == 0)
                    grown.Release();
            }

            watcher.Changed += Wake;
            watcher.Created += Wake;
            watcher.EnableRaisingEvents = true;
        }

        FileStream? file = null;
        try
        {
            while (!cancellation.IsCancellationRequested)
            {
                if (file is null && File.Exists(path))
                    file = Open(path);
                while (file is not null)
                {
                    if (file.Length < from)
                        from = 0; // emptied by hand
                    file.Position = from;
                    var got = await file.ReadAsync(to.GetMemory(Block), cancellation).ConfigureAwait(false);
                    if (got == 0)
                        break;
                    from += got;
                    to.Advance(got);
                    if ((await to.FlushAsync(cancellation).ConfigureAwait(false)).IsCompleted)
                        return;
                }

                if (!follow)
                    return;
                await grown.WaitAsync(cancellation).ConfigureAwait(false);
            }
        }
        finally
        {
            if (file is not null)
                await file.DisposeAsync().ConfigureAwait(false);
        }
    }

    public static FileStream Open(string path) =>
        new(path, FileMode.Open, FileAccess.Read, FileShare.ReadWrite | FileShare.Delete, 1);
}
