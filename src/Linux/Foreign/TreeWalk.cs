namespace CalmSentry.Linux.Foreign;

/// <summary>
/// Goes through a folder and all below it on the same file system, by descriptors: what is swapped for a link meanwhile
/// is not followed.
/// </summary>
public static class TreeWalk
{
    /// <summary>Entries that are looked at, at most.</summary>
    public const int Most = 1_000_000;

    private const int Deepest = 200;

    /// <summary>
    /// Calls <paramref name="visit"/> for the folder and for each entry below it, a folder before what is in it.
    /// </summary>
    /// <exception cref="IOException">There is more below it than is looked at.</exception>
    public static void Each(Held top, Action<Held, FileIdentity> visit)
    {
        var identity = top.Identity();
        visit(top, identity);
        var left = Most;
        if (identity.Type == FileType.Directory)
            Below(top, identity.Device, 0, ref left, visit);
    }

    private static void Below(Held folder, string device, int depth, ref int left, Action<Held, FileIdentity> visit)
    {
        if (depth > Deepest)
            throw new IOException($"there are more than {Deepest} folders within each other");
        foreach (var name in folder.Names())
        {
            if (left-- <= 0)
                throw new IOException($"there are more than {Most} entries below it");
            using var entry = folder.Entry(name);
            if (entry?.Identity() is not { } identity || identity.Device != device || identity.Type == FileType.Link)
                continue;
            visit(entry, identity);
            if (identity.Type == FileType.Directory)
                Below(entry, device, depth + 1, ref left, visit);
        }
    }
}
