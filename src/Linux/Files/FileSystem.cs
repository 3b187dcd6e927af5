using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Files;

/// <summary>What kind of file system a path lies on (statfs(2)).</summary>
public static class FileSystem
{
    private const long Tmpfs = 0x01021994,
        Ramfs = 0x858458f6,
        Proc = 0x9fa0,
        Sys = 0x62656572,
        Debug = 0x64626720,
        Trace = 0x74726163,
        Security = 0x73636673,
        Groups = 0x27e0eb,
        Groups2 = 0x63677270;

    /// <summary>
    /// Whether what is read there is the kernel's own word and no file of anybody's: who may see it goes by more than its mode,
    /// and a process of root's sees more whatever account it opens as (proc(5), capabilities(7)).
    /// </summary>
    public static unsafe bool IsKernels(int descriptor)
    {
        var room = stackalloc byte[256];
        return Libc.fstatfs(descriptor, room) == 0
            && *(long*)room is Proc or Sys or Debug or Trace or Security or Groups or Groups2;
    }

    /// <summary>Whether the disk that an open file lies on has no block left for anybody but root.</summary>
    public static unsafe bool IsFull(int descriptor)
    {
        var facts = stackalloc long[16]; // struct statfs
        var (blocks, available) = (2, 4);
        return Libc.fstatfs(descriptor, (byte*)facts) == 0 && facts[blocks] > 0 && facts[available] <= 0;
    }

    /// <summary>Whether what is written there is kept in memory and never on a disk.</summary>
    public static unsafe bool IsMemory(string path)
    {
        using var text = new CString(path);
        var room = stackalloc byte[256];
        return Libc.statfs(text.Pointer, room) == 0 && *(long*)room is Tmpfs or Ramfs;
    }
}
