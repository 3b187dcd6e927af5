using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Files;

/// <summary>Folders on the way to a path.</summary>
public static class Folders
{
    /// <summary>Every folder above a path, the topmost first, the root included.</summary>
    public static IReadOnlyList<string> Above(string path)
    {
        var above = new List<string>();
        for (var at = Path.GetDirectoryName(path); at is not null; at = Path.GetDirectoryName(at))
            above.Insert(0, at);
        return above;
    }

    /// <summary>The path with every link on it followed (realpath(3)); as it is when it is not there.</summary>
    public static unsafe string Real(string path)
    {
        using var text = new CString(path);
        var room = stackalloc byte[4096];
        return Libc.realpath(text.Pointer, room) is null ? path : Marshal.PtrToStringUTF8((nint)room)!;
    }
}
