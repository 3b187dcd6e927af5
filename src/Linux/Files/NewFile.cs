using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;
using Microsoft.Win32.SafeHandles;

namespace CalmSentry.Linux.Files;

/// <summary>A file that was not there before and that nobody but its owner can read or write.</summary>
public static class NewFile
{
    /// <summary>The same, without more ado: for very many of them.</summary>
    /// <exception cref="IOException">There is something of this name already, or it cannot be made.</exception>
    public static unsafe SafeFileHandle Handle(string path)
    {
        using var text = new CString(path);
        var file = Libc.open(
            text.Pointer,
            Libc.O_WRONLY | Libc.O_CREAT | Libc.O_EXCL | Libc.O_NOFOLLOW | Libc.O_CLOEXEC,
            0x180
        );
        if (file >= 0)
            return new SafeFileHandle(file, ownsHandle: true);
        var errno = Marshal.GetLastSystemError();
        throw errno is Libc.EMFILE or Libc.ENFILE or Libc.ENOMEM
            ? new OwnTroubleException($"the sentry is out of room ({Names.Errno(errno)})")
            : new IOException($"{path} cannot be made: {Names.Errno(errno)}");
    }

    /// <param name="buffer">Bytes gathered before they are written; 0: none.</param>
    /// <exception cref="IOException">There is something of this name already (open(2), O_EXCL), a link included.</exception>
    public static FileStream Begin(string path, int buffer = 4096) =>
        new(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite,
                BufferSize = buffer,
            }
        );
}
