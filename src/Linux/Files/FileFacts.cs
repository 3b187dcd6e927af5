using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Files;

/// <summary>What the runtime's own file calls do not tell (statx(2)).</summary>
public static class FileFacts
{
    /// <summary>The user id a file belongs to, itself and not what it links to; null when it is not there.</summary>
    public static uint? Owner(string path) => Of(path, followsLinks: false)?.Owner;

    /// <summary>Whether there is a regular file, links followed: no directory, device, pipe or socket.</summary>
    public static bool IsRegular(string path) => Of(path)?.IsRegular == true;

    /// <summary>Whether two paths, links followed, lead to one and the same file; false where one leads to none.</summary>
    public static bool AreOne(string path, string other) => Of(path)?.Id is { } one && one == Of(other)?.Id;

    /// <summary>What a path leads to; null: nothing, or nobody may know.</summary>
    public static unsafe FileLook? Of(string path, bool followsLinks = true)
    {
        using var text = new CString(path);
        return Of(Libc.AT_FDCWD, text.Pointer, followsLinks ? 0 : Libc.AT_SYMLINK_NOFOLLOW);
    }

    /// <summary>What a descriptor leads to, also one that only names a place (O_PATH).</summary>
    public static unsafe FileLook? Of(int descriptor)
    {
        fixed (byte* nothing = "\0"u8)
            return Of(descriptor, nothing, Libc.AT_EMPTY_PATH);
    }

    private static unsafe FileLook? Of(int descriptor, byte* path, int flags)
    {
        const uint basic = 0x7ff, // STATX_BASIC_STATS
            birth = 0x800; // STATX_BTIME
        const int kinds = 0xF000,
            regular = 0x8000;
        var facts = stackalloc byte[256]; // struct statx
        return Libc.statx(descriptor, path, flags, basic | birth, facts) < 0
            ? null
            : new(
                (*(ushort*)(facts + 28) & kinds) == regular,
                new(*(ulong*)(facts + 32), *(ulong*)(facts + 136)),
                *(long*)(facts + 40),
                *(uint*)(facts + 20),
                (*(long*)(facts + 112) * 1_000_000_000) + *(uint*)(facts + 120),
                (*(uint*)facts & birth) == 0 ? 0 : (*(long*)(facts + 80) * 1_000_000_000) + *(uint*)(facts + 88)
            );
    }

    /// <summary>
    /// A file's time is that of the kernel's last tick (clock_gettime(2), CLOCK_REALTIME_COARSE): what is written at once may seem to be
    /// older than the moment before. A tick is 10 ms at most (100 Hz); twice that is sure.
    /// </summary>
    public static readonly TimeSpan LongestTick = TimeSpan.FromMilliseconds(20);

    /// <summary>
    /// Files under the roots that were written since a moment and belong to an account; at most 20,000 entries are
    /// looked at.
    /// </summary>
    public static IReadOnlyList<string> WrittenSince(DateTime utc, IEnumerable<string> roots, uint owner)
    {
        utc -= LongestTick;
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

/// <summary>A file as the kernel has it.</summary>
/// <param name="Size">In bytes.</param>
/// <param name="Owner">User id.</param>
/// <param name="Written">When its content was last changed, in ns since 1970.</param>
/// <param name="Born">When it was made, in ns since 1970: of a file that is gone its number is soon another's. 0: the file system does not
/// say.</param>
public readonly record struct FileLook(bool IsRegular, FileId Id, long Size, uint Owner, long Written, long Born)
{
    /// <summary>Whether it is this very file, and not one that has its number since.</summary>
    public bool Is(FileId id, long born) => Id == id && (born == 0 || Born == 0 || born == Born);
}

/// <summary>Which file it is on this machine, whatever its name.</summary>
public readonly record struct FileId(ulong Inode, ulong Device);
