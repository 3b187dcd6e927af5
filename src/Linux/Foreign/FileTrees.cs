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

    /// <param name="after">A tree that nobody else reaches.</param>
    /// <param name="skip">Paths that do not count.</param>
    public static TreeDifference Compare(Held before, Held after, Func<string, bool> skip, Gathering kept)
    {
        var comparison = new TreePairs(skip, kept);
        comparison.Folder(before, after, "", 0);
        return comparison.Found();
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
