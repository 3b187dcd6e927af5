using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Files;

/// <summary>
/// Small files in directories that only the sentry writes in, on the way of every launch: three calls of the kernel, and
/// none of the locks and questions that a file of the runtime's comes with.
/// </summary>
public static unsafe class OwnFile
{
    /// <summary>Makes the file, or makes it anew, for this account alone (mode 600).</summary>
    /// <exception cref="DirectoryNotFoundException">Its directory is not there.</exception>
    /// <exception cref="IOException">It cannot be written, or not all of it.</exception>
    public static void Write(string path, ReadOnlySpan<byte> content)
    {
        using var text = new CString(path);
        var file = Libc.open(
            text.Pointer,
            Libc.O_WRONLY | Libc.O_CREAT | Libc.O_TRUNC | Libc.O_NOFOLLOW | Libc.O_CLOEXEC,
            0x180
        );
        if (file < 0)
            throw Failed(path, Marshal.GetLastSystemError());
        nint put;
        fixed (byte* bytes = content)
            put = Libc.write(file, bytes, content.Length);
        var errno = put < 0 ? Marshal.GetLastSystemError() : 0;
        _ = Libc.close(file);
        if (put < content.Length)
            throw Failed(path, errno == 0 ? Libc.ENOSPC : errno);
    }

    private static IOException Failed(string path, int errno) =>
        errno == Libc.ENOENT
            ? new DirectoryNotFoundException($"{Path.GetDirectoryName(path)} is not there")
            : new IOException($"{path} cannot be written: {Names.Errno(errno)}");
}
