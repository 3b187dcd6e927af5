namespace CalmSentry.Linux.Foreign;

/// <summary>How the files of two trees differ; paths from their tops, a folder by its files.</summary>
public sealed record TreeDifference(
    IReadOnlyList<string> Added,
    IReadOnlyList<string> Changed,
    IReadOnlyList<string> Gone,
    int Same
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
        var (was, now) = (Files(before, skip, kept), Files(after, skip, kept));
        var changed = new List<string>();
        var same = 0;
        foreach (var (path, what) in now)
        {
            kept.GoesOn();
            if (was.TryGetValue(path, out var then))
            {
                if (then.Type != what.Type || then.Size != what.Size || !SameContent(before, after, path, what.Type))
                    changed.Add(path);
                else
                    same++;
            }
        }

        return new(
            [.. now.Keys.Where(path => !was.ContainsKey(path))],
            changed,
            [.. was.Keys.Where(path => !now.ContainsKey(path))],
            same
        );
    }

    /// <summary>Bytes of all files below.</summary>
    public static long Bytes(Held top, Gathering kept) => Files(top, _ => false, kept).Values.Sum(what => what.Size);

    /// <summary>What of a file is compared.</summary>
    private readonly record struct Compared(FileType Type, long Size);

    private static SortedDictionary<string, Compared> Files(Held top, Func<string, bool> skip, Gathering kept)
    {
        var found = new SortedDictionary<string, Compared>(StringComparer.Ordinal);
        Files(top, "", skip, found, kept, 0);
        return found;
    }

    private static void Files(
        Held folder,
        string path,
        Func<string, bool> skip,
        SortedDictionary<string, Compared> found,
        Gathering kept,
        int depth
    )
    {
        TreeWalk.NotTooDeep(depth);
        foreach (var name in folder.All())
        {
            var at = Path.Combine(path, name);
            using var entry = folder.Entry(name);
            if (entry is null || skip(at))
                continue;
            var what = entry.Identity();
            kept.Keep(at);
            if (what.Type == FileType.Directory)
                Files(entry, at, skip, found, kept, depth + 1);
            else
                found[at] = new(what.Type, what.Size);
        }
    }

    private static bool SameContent(Held before, Held after, string path, FileType type)
    {
        using var was = Find(before, path);
        using var now = Find(after, path);
        if (was is null || now is null)
            return false;
        if (type == FileType.Link)
            return was.Target() == now.Target();
        if (type != FileType.Regular)
            return true;
        using var old = was.Content();
        using var young = now.Content();
        var (a, b) = (new byte[81920], new byte[81920]);
        while (true)
        {
            var got = old.ReadAtLeast(a, a.Length, throwOnEndOfStream: false);
            var other = young.ReadAtLeast(b, b.Length, throwOnEndOfStream: false);
            if (!a.AsSpan(0, got).SequenceEqual(b.AsSpan(0, other)))
                return false;
            if (got == 0)
                return true;
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
