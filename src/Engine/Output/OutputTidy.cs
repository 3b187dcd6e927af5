using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Packs what was turned over, and lets go what is more than a service may keep, the oldest first. What is gone is gone as a
/// whole file with its times.
/// </summary>
internal static class OutputTidy
{
    /// <summary>The part of what may be kept that may wait to be packed; beyond it packing gives way to nobody.</summary>
    private const int MostWaiting = 4;

    /// <summary>Bytes, and files, that are packed as one.</summary>
    private const int MostBytes = 32 << 20,
        MostFiles = 64;

    /// <summary>Nothing was turned over for so long: it is not in the way of what is printed any more.</summary>
    public static readonly TimeSpan Calm = TimeSpan.FromSeconds(1);

    /// <param name="pack">Packs files; whether that gives way: not while more waits to be packed than may.</param>
    /// <param name="later">
    /// Called where packing is left for later: while much is printed, and little waits yet, it would take the processor from it. Null: it
    /// is packed now.
    /// </param>
    /// <returns>Files that went, and how many bytes of output that were.</returns>
    public static (int Files, long Bytes) Tidy(
        string folder,
        OutputPart keep,
        DateTime now,
        Action<IReadOnlyList<string>, bool, CancellationToken> pack,
        CancellationToken cancellation,
        Action? later = null
    )
    {
        if (!Directory.Exists(folder))
            return default;
        var gone = LetGo(folder, keep, now); // first: what goes need not be packed
        var turned = Segments.Of(folder).SkipLast(1).ToList();
        var waiting = turned.Sum(segment => Waits(segment) ? Segments.Length(segment.Path!) : 0);
        List<string> together = [];
        var (size, givesWay) = (0L, true);
        foreach (var segment in turned)
        {
            if (size >= MostBytes || together.Count >= MostFiles)
                Pack();
            if (Waits(segment))
            {
                if (later is not null && waiting <= keep.KeepMost / MostWaiting / 2 && Flows(turned))
                {
                    later();
                    break;
                }

                var gives = waiting <= keep.KeepMost / MostWaiting;
                if (gives != givesWay)
                    Pack();
                givesWay = gives;
                var length = Segments.Length(segment.Path!);
                (waiting, size) = (waiting - length, size + length);
                together.Add(segment.Path!);
            }

            var times = Path.Combine(folder, OutputForm.TimesOf(segment.Number));
            if (File.Exists(times))
                together.Add(times);
        }

        Pack();

        // What came meanwhile has not waited for all this.
        var more = LetGo(folder, keep, now);
        return (gone.Files + more.Files, gone.Bytes + more.Bytes);

        void Pack()
        {
            cancellation.ThrowIfCancellationRequested();
            if (together.Count > 0)
                pack(together, givesWay, cancellation);
            (together, size) = ([], 0);
        }

        static bool Flows(List<Segment> turned) =>
            turned[^1].Path is { } path && DateTime.UtcNow - File.GetLastWriteTimeUtc(path) < Calm;

        static bool Waits(Segment segment) => segment is { Path: not null, Packed: false };
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
