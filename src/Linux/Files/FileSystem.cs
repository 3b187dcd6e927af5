using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Files;

/// <summary>What kind of file system a path lies on (statfs(2)).</summary>
public static class FileSystem
{
    private const long Tmpfs = 0x01021994,
        Ramfs = 0x858458f6;

    /// <summary>Whether what is written there is kept in memory and never on a disk.</summary>
    public static unsafe bool IsMemory(string path)
    {
        using var text = new CString(path);
        var room = stackalloc byte[256];
        return Libc.statfs(text.Pointer, room) == 0 && *(long*)room is Tmpfs or Ramfs;
    }
}
