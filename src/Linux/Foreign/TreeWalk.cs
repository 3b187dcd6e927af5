namespace CalmSentry.Linux.Foreign;

/// <summary>
/// Goes through a folder and all below it on the same file system, by descriptors: what is swapped for a link meanwhile
/// is not followed.
/// </summary>
public static class TreeWalk
{
    /// <summary>Entries that are looked at, at most.</summary>
    public const int Most = 1_000_000;

    /// <summary>Folders within each other, at most: each is held while those in it are looked at.</summary>
    public const int Deepest = 200;

    /// <summary>
    /// Calls <paramref name="visit"/> for the folder and for each entry below it, a folder before what is in it.
    /// </summary>
    /// <exception cref="IOException">There is more below it than is looked at.</exception>
    public static void Each(Held top, Action<Held, FileIdentity> visit, CancellationToken gone = default) =>
        Each(top, "", (entry, identity, _) => visit(entry, identity), gone);

    /// <summary>The same, with the path of each.</summary>
    /// <param name="path">The folder's own.</param>
    public static void Each(
        Held top,
        string path,
        Action<Held, FileIdentity, string> visit,
        CancellationToken gone = default
    )
    {
        var identity = top.Identity();
        visit(top, identity, path);
        var left = Most;
        if (identity.Type == FileType.Directory)
            Below(top, path, identity.Device, 0, ref left, visit, gone);
    }

    /// <exception cref="IOException">It is deeper than is looked at.</exception>
    public static void NotTooDeep(int depth)
    {
        if (depth > Deepest)
            throw new IOException($"there are more than {Deepest} folders within each other");
    }

    private static void Below(
        Held folder,
        string path,
        string device,
        int depth,
        ref int left,
        Action<Held, FileIdentity, string> visit,
        CancellationToken gone
    )
    {
        NotTooDeep(depth);
        foreach (var name in folder.Names())
        {
            gone.ThrowIfCancellationRequested();
            if (left-- <= 0)
                throw new IOException($"there are more than {Most} entries below it");
            using var entry = folder.Entry(name);
            if (entry?.Identity() is not { } identity || identity.Device != device || identity.Type == FileType.Link)
                continue;
            var at = Path.Combine(path, name);
            visit(entry, identity, at);
            if (identity.Type == FileType.Directory)
                Below(entry, at, device, depth + 1, ref left, visit, gone);
        }
    }
}
