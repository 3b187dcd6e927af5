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
    /// <summary>Files looked at, at most.</summary>
    private const int Most = 500_000;

    /// <summary>What is in <paramref name="from"/> and not in <paramref name="to"/> comes to be there, too.</summary>
    /// <param name="skip">Paths that do not.</param>
    /// <exception cref="IOException">It cannot be read, or there is no room.</exception>
    public static void Fill(Held from, Held to, Func<string, bool> skip) => Fill(from, to, "", skip, 0);

    private static void Fill(Held from, Held to, string path, Func<string, bool> skip, int depth)
    {
        TreeWalk.NotTooDeep(depth);
        foreach (var name in from.All())
        {
            var at = Path.Combine(path, name);
            using var entry = from.Entry(name);
            if (entry is null || skip(at))
                continue;
            using var there = to.Entry(name);
            switch (entry.Identity().Type)
            {
                case FileType.Directory when there is null:
                    using (var made = to.MakeDirectory(name, (UnixFileMode)0x1C0))
                        Fill(entry, made, at, skip, depth + 1);
                    break;
                case FileType.Directory when there.Identity().Type == FileType.Directory:
                    Fill(entry, there, at, skip, depth + 1);
                    break;
                case FileType.Regular when there is null:
                    File.Copy(entry.Path, Path.Combine(to.Path, name));
                    break;
                case FileType.Link when there is null:
                    File.CreateSymbolicLink(Path.Combine(to.Path, name), entry.Target());
                    break;
            }
        }
    }

    /// <summary>Removes what is not to be in a tree that nobody else reaches yet.</summary>
    /// <returns>The paths of what there was of it.</returns>
    public static IReadOnlyList<string> Leave(Held top, Func<string, bool> leave)
    {
        var left = new List<string>();
        Leave(top, "", leave, left, 0);
        return left;
    }

    private static void Leave(Held folder, string path, Func<string, bool> leave, List<string> left, int depth)
    {
        TreeWalk.NotTooDeep(depth);
        foreach (var name in folder.All())
        {
            var at = Path.Combine(path, name);
            if (leave(at))
            {
                folder.Remove(name);
                left.Add(at);
                continue;
            }

            using var entry = folder.Entry(name);
            if (entry?.Identity().Type == FileType.Directory)
                Leave(entry, at, leave, left, depth + 1);
        }
    }

    /// <summary>
    /// Owners and rights as they were: of what was there before under the same path, its own (also access lists and file
    /// capabilities); of what is new, the owner of the folder it comes into, with the rights it was packed with.
    /// </summary>
    /// <param name="after">A tree that nobody else reaches yet.</param>
    /// <exception cref="IOException">They cannot be set.</exception>
    public static void Adopt(Held before, Held after)
    {
        var top = before.Identity();
        Adopt(before, after, top, 0);
        Give(before, top, after);
    }

    private static void Adopt(Held? before, Held after, FileIdentity folder, int depth)
    {
        TreeWalk.NotTooDeep(depth);
        foreach (var name in after.All())
        {
            using var entry = after.Entry(name) ?? throw new IOException($"{name} is not there any more");
            using var was = before?.Entry(name);
            var what = entry.Identity();
            var same = was?.Identity() is { } then && then.Type == what.Type ? then : (FileIdentity?)null;
            if (what.Type == FileType.Directory)
                Adopt(same is null ? null : was, entry, same ?? folder, depth + 1);
            if (same is { } of)
                Give(was!, of, entry);
            else
                Own(entry, folder.Uid, folder.Gid);
        }
    }

    private static void Give(Held was, FileIdentity then, Held now)
    {
        Own(now, then.Uid, then.Gid);
        if (then.Type == FileType.Link)
            return;
        // A file with a second name may be somebody else's: what it may do is not handed to a new content.
        var own = then.Type == FileType.Directory || then.Links == 1;
        now.SetMode(own ? then.Mode : then.Mode & 0x3FF);
        WhereKept(() =>
        {
            if (AccessLists.Of(was, ListKind.Access) is { } access)
                AccessLists.Set(now, ListKind.Access, access);
            if (then.Type == FileType.Directory && AccessLists.Of(was, ListKind.Default) is { } given)
                AccessLists.Set(now, ListKind.Default, given);
        });
        if (own && then.Type == FileType.Regular)
            WhereKept(() =>
            {
                if (ExtendedAttributes.Of(was, ExtendedAttributes.Capabilities) is { } rights)
                    ExtendedAttributes.Set(now, ExtendedAttributes.Capabilities, rights);
            });
    }

    private static void WhereKept(Action take)
    {
        try
        {
            take();
        }
        catch (NotSupportedException)
        {
            // There is nothing of its kind on this file system.
        }
    }

    private static void Own(Held now, uint uid, uint gid)
    {
        if (now.Give(uid, gid) is var errno and not 0)
            throw new IOException($"its owner cannot be set: {Native.Names.Errno(errno)}");
    }

    /// <param name="skip">Paths that do not count.</param>
    public static TreeDifference Compare(Held before, Held after, Func<string, bool> skip)
    {
        var (was, now) = (Files(before, skip), Files(after, skip));
        var changed = new List<string>();
        var same = 0;
        foreach (var (path, what) in now)
            if (was.TryGetValue(path, out var then))
            {
                if (then.Type != what.Type || then.Size != what.Size || !SameContent(before, after, path, what.Type))
                    changed.Add(path);
                else
                    same++;
            }

        return new(
            [.. now.Keys.Where(path => !was.ContainsKey(path))],
            changed,
            [.. was.Keys.Where(path => !now.ContainsKey(path))],
            same
        );
    }

    /// <summary>Bytes of all files below.</summary>
    public static long Bytes(Held top) => Files(top, _ => false).Values.Sum(what => what.Size);

    private static SortedDictionary<string, FileIdentity> Files(Held top, Func<string, bool> skip)
    {
        var found = new SortedDictionary<string, FileIdentity>(StringComparer.Ordinal);
        Files(top, "", skip, found, 0);
        return found;
    }

    private static void Files(
        Held folder,
        string path,
        Func<string, bool> skip,
        SortedDictionary<string, FileIdentity> found,
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
            if (what.Type == FileType.Directory)
                Files(entry, at, skip, found, depth + 1);
            else
                found[at] = what;
            if (found.Count > Most)
                throw new IOException($"there are more than {Most} files below it");
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
