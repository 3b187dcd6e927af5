using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Files;

/// <summary>What the runtime's own file calls do not tell (statx(2)).</summary>
public static class FileFacts
{
    /// <summary>The user id a file belongs to, itself and not what it links to; null when it is not there.</summary>
    public static unsafe uint? Owner(string path)
    {
        using var text = new CString(path);
        var room = stackalloc byte[256];
        const int noFollow = 0x100;
        const uint uid = 0x8;
        return Libc.statx(Libc.AT_FDCWD, text.Pointer, noFollow, uid, room) == 0 ? *(uint*)(room + 20) : null;
    }

    /// <summary>Whether there is a regular file, links followed: no directory, device, pipe or socket.</summary>
    public static unsafe bool IsRegular(string path)
    {
        using var text = new CString(path);
        var room = stackalloc byte[256];
        const uint type = 0x1;
        return Libc.statx(Libc.AT_FDCWD, text.Pointer, 0, type, room) == 0
            && (*(ushort*)(room + 28) & 0xF000) == 0x8000;
    }

    /// <summary>Whether two paths, links followed, lead to one and the same file; false where one leads to none.</summary>
    public static bool AreOne(string path, string other) => Identity(path) is { } one && one == Identity(other);

    private static unsafe (ulong Number, uint Major, uint Minor)? Identity(string path)
    {
        using var text = new CString(path);
        var room = stackalloc byte[256];
        const uint number = 0x100;
        return Libc.statx(Libc.AT_FDCWD, text.Pointer, 0, number, room) == 0
            ? (*(ulong*)(room + 32), *(uint*)(room + 136), *(uint*)(room + 140))
            : null;
    }

    /// <summary>
    /// Files under the roots that were written since a moment and belong to an account; at most 20,000 entries are
    /// looked at.
    /// </summary>
    public static IReadOnlyList<string> WrittenSince(DateTime utc, IEnumerable<string> roots, uint owner)
    {
        var found = new List<string>();
        var options = new EnumerationOptions
        {
            RecurseSubdirectories = true,
            MaxRecursionDepth = 4,
            IgnoreInaccessible = true,
            AttributesToSkip = FileAttributes.ReparsePoint,
        };
        var left = 20_000;
        foreach (var root in roots.Where(Directory.Exists).Distinct())
        {
            foreach (var file in new DirectoryInfo(root).EnumerateFiles("*", options))
            {
                if (left-- <= 0)
                    return found;
                if (file.LastWriteTimeUtc >= utc && Owner(file.FullName) == owner)
                    found.Add(file.FullName);
            }
        }

        return found;
    }
}
