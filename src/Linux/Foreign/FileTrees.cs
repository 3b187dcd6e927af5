using System.Buffers;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Linux.Foreign;

/// <summary>How the files of two trees differ; paths from their tops, a folder by its files.</summary>
/// <param name="Bytes">Of all files of the second one.</param>
public sealed record TreeDifference(
    IReadOnlyList<string> Added,
    IReadOnlyList<string> Changed,
    IReadOnlyList<string> Gone,
    int Same,
    long Bytes
);

/// <summary>
/// Trees of files, by descriptors: one may be in the hands of a program that runs, the other one is reached by nobody else.
/// </summary>
public static class FileTrees
{
    /// <summary>Removes what is not to be in a tree that nobody else reaches yet.</summary>
    /// <returns>The paths of what there was of it.</returns>
    public static IReadOnlyList<string> Leave(Held top, Func<string, bool> leave, Gathering kept)
    {
        var left = new List<string>();
        Leave(top, "", leave, left, kept, 0);
        return left;
    }

    private static void Leave(
        Held folder,
        string path,
        Func<string, bool> leave,
        List<string> left,
        Gathering kept,
        int depth
    )
    {
        TreeWalk.NotTooDeep(depth);
        foreach (var name in folder.All())
        {
            var at = Path.Combine(path, name);
            kept.GoesOn();
            if (leave(at))
            {
                kept.Keep(at);
                folder.Remove(name);
                left.Add(at);
                continue;
            }

            using var entry = folder.Entry(name);
            if (entry?.Identity().Type == FileType.Directory)
                Leave(entry, at, leave, left, kept, depth + 1);
        }
    }

    /// <param name="skip">Paths that do not count.</param>
    public static TreeDifference Compare(Held before, Held after, Func<string, bool> skip, Gathering kept)
    {
        using var comparison = new Comparison(skip, kept);
        comparison.Folder(before, after, "", 0);
        return comparison.Found();
    }

    /// <summary>One walk through both trees, so that each file is found by its folder, not from the top.</summary>
    private sealed class Comparison(Func<string, bool> skip, Gathering kept) : IDisposable
    {
        private const int Block = 81920;

        /// <summary>Files of the same size, whose content is compared some at a time.</summary>
        private readonly List<(Held Old, Held Now, FileIdentity What, string Path)> pairs = [];

        private readonly List<string> added = [],
            changed = [],
            gone = [];
        private int same;
        private long bytes;

        public TreeDifference Found()
        {
            ComparePairs();
            foreach (var list in new[] { added, changed, gone })
                list.Sort(StringComparer.Ordinal);
            return new(added, changed, gone, same, bytes);
        }

        /// <param name="before">Null: there was no such folder.</param>
        /// <param name="after">Null: there is none any more.</param>
        public void Folder(Held? before, Held? after, string path, int depth)
        {
            TreeWalk.NotTooDeep(depth);
            var seen = new HashSet<string>(StringComparer.Ordinal);
            foreach (var name in after?.All() ?? [])
            {
                var at = Path.Combine(path, name);
                kept.Keep(at);
                seen.Add(name);
                var entry = after!.Entry(name);
                if (entry is null || skip(at))
                {
                    entry?.Dispose();
                    continue;
                }

                var old = before?.Entry(name);
                if (Waits(old, entry, at, depth))
                    continue;
                entry.Dispose();
                old?.Dispose();
            }

            foreach (var name in before?.All() ?? [])
            {
                var at = Path.Combine(path, name);
                kept.GoesOn();
                if (seen.Contains(name) || skip(at))
                    continue;
                kept.Keep(at);
                using var old = before!.Entry(name);
                if (old?.Identity().Type == FileType.Directory)
                    Folder(old, null, at, depth + 1);
                else if (old is not null)
                    gone.Add(at);
            }
        }

        /// <returns>Both are held until their content is compared.</returns>
        private bool Waits(Held? old, Held entry, string path, int depth)
        {
            var (now, then) = (entry.Identity(), old?.Identity());
            var (folder, folderBefore) = (now.Type == FileType.Directory, then?.Type == FileType.Directory);
            if (folder || folderBefore)
                Folder(folderBefore ? old : null, folder ? entry : null, path, depth + 1);
            if (then is not null && folder && !folderBefore)
                gone.Add(path);
            if (folder)
                return false;
            bytes += now.Size;
            if (then is not { } was || folderBefore)
                added.Add(path);
            else if (was.Type != now.Type || was.Size != now.Size)
                changed.Add(path);
            else if (now.Type == FileType.Regular && now.Size > 0)
            {
                pairs.Add((old!, entry, now, path));
                if (pairs.Count >= Together.AtOnce)
                    ComparePairs();
                return true;
            }
            else if (now.Type == FileType.Link && old!.Target() != entry.Target())
                changed.Add(path);
            else
                same++;
            return false;
        }

        private void ComparePairs()
        {
            var alike = new bool[pairs.Count];
            Together.Each(pairs.Count, i => alike[i] = SameContent(pairs[i].Old, pairs[i].Now, pairs[i].What.Size));
            for (var i = 0; i < alike.Length; i++)
                if (alike[i])
                    same++;
                else
                    changed.Add(pairs[i].Path);
            Dispose();
        }

        public void Dispose()
        {
            foreach (var (old, now, _, _) in pairs)
            {
                old.Dispose();
                now.Dispose();
            }

            pairs.Clear();
        }

        private static bool SameContent(Held before, Held after, long size)
        {
            using var was = before.Content();
            using var now = after.Content();
            var (one, other) = (ArrayPool<byte>.Shared.Rent(Block), ArrayPool<byte>.Shared.Rent(Block));
            try
            {
                for (var at = 0L; at < size; )
                {
                    var block = (int)Math.Min(Block, size - at);
                    var (old, young) = (Next(was, one.AsSpan(0, block), at), Next(now, other.AsSpan(0, block), at));
                    if (!one.AsSpan(0, old).SequenceEqual(other.AsSpan(0, young)))
                        return false;
                    if (old == 0)
                        break; // both have become shorter
                    at += old;
                }

                return true;
            }
            finally
            {
                ArrayPool<byte>.Shared.Return(one);
                ArrayPool<byte>.Shared.Return(other);
            }
        }

        private static int Next(SafeFileHandle from, Span<byte> room, long at)
        {
            var all = 0;
            for (int got; all < room.Length && (got = RandomAccess.Read(from, room[all..], at + all)) > 0; )
                all += got;
            return all;
        }
    }

    /// <summary>What lies at a path below a held folder, itself; null: nothing does.</summary>
    public static Held? Find(Held top, string path)
    {
        var at = top.Entry(".");
        foreach (var part in path.Split('/', StringSplitOptions.RemoveEmptyEntries))
        {
            using var above = at;
            at = above?.Entry(part);
        }

        return at;
    }
}
