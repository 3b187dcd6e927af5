using System.IO.Compression;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Server.Output;

/// <summary>
/// Packs what was turned over, and lets go what is more than a service may keep, the oldest first. What is gone is gone as a
/// whole file with its times.
/// </summary>
internal static class OutputTidy
{
    private const string Beside = "~";

    /// <returns>Files that went, and how many bytes of output that were.</returns>
    public static (int Files, long Bytes) Tidy(
        string folder,
        OutputPart keep,
        DateTime now,
        CancellationToken cancellation
    )
    {
        if (!Directory.Exists(folder))
            return default;
        Pack(folder, cancellation);
        return LetGo(folder, keep, now);
    }

    private static void Pack(string folder, CancellationToken cancellation)
    {
        var all = Segments.Of(folder);
        foreach (var segment in all.SkipLast(1))
        {
            cancellation.ThrowIfCancellationRequested();
            if (segment is { Path: { } path, Packed: false })
                Pack(path, CompressionLevel.Fastest, cancellation);
            var times = Path.Combine(folder, OutputForm.TimesOf(segment.Number));
            if (File.Exists(times))
                Pack(times, CompressionLevel.Optimal, cancellation);
        }
    }

    /// <summary>The packed file is whole and on the disk before the other goes.</summary>
    private static void Pack(string path, CompressionLevel level, CancellationToken cancellation)
    {
        var beside = path + OutputForm.Packed + Beside;
        var written = File.GetLastWriteTimeUtc(path);
        using (var from = OutputFile.Open(path))
        using (
            var to = new FileStream(
                beside,
                new FileStreamOptions
                {
                    Mode = FileMode.Create,
                    Access = FileAccess.Write,
                    UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead,
                }
            )
        )
        {
            using (var packed = new GZipStream(to, level, leaveOpen: true))
            {
                var block = new byte[1 << 16];
                while (from.Read(block) is > 0 and var got)
                {
                    cancellation.ThrowIfCancellationRequested();
                    packed.Write(block.AsSpan(0, got));
                }
            }

            to.Flush(flushToDisk: true);
        }

        File.SetLastWriteTimeUtc(beside, written);
        File.Move(beside, path + OutputForm.Packed, overwrite: true);
        File.Delete(path);
    }

    private static (int Files, long Bytes) LetGo(string folder, OutputPart keep, DateTime now)
    {
        var all = Segments.Of(folder);
        var (files, bytes) = (0, 0L);
        var total = all.Sum(SizeOf);
        for (var i = 0; i < all.Count - 1; i++)
        {
            var segment = all[i];
            var older = all.Count - 1 - i;
            var isOver =
                older > keep.KeepFiles
                || total > keep.KeepMost
                || (
                    keep.KeepFor is { } length
                    && segment.Path is { } path
                    && now - File.GetLastWriteTimeUtc(path) > length
                );
            if (!isOver && segment.Path is not null)
                break;
            total -= SizeOf(segment);
            if (segment.Path is { } gone)
            {
                File.Delete(gone);
                files++;
                bytes += all[i + 1].Start - segment.Start;
            }

            var times = Path.Combine(folder, OutputForm.TimesOf(segment.Number));
            File.Delete(times);
            File.Delete(times + OutputForm.Packed);
        }

        return (files, bytes);

        long SizeOf(Segment segment)
        {
            var times = Path.Combine(segment.Folder, OutputForm.TimesOf(segment.Number));
            return (segment.Path is { } path ? Segments.Length(path) : 0)
                + Segments.Length(times)
                + Segments.Length(times + OutputForm.Packed);
        }
    }
}
