using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Foreign;

/// <summary>What a file system keeps of a held file beside its mode, by name (xattr(7)).</summary>
public static unsafe class ExtendedAttributes
{
    /// <summary>Rights of the kernel that whoever executes the file gets (capabilities(7), File capabilities).</summary>
    public const string Capabilities = "security.capability";

    private const int Most = 65536,
        Usual = 512; // of a tree most have none, or a short one

    /// <summary>Null: there is none of that name.</summary>
    /// <exception cref="NotSupportedException">The file system keeps none of its kind.</exception>
    /// <exception cref="IOException">It cannot be read.</exception>
    public static byte[]? Of(Held held, string name)
    {
        using var path = new CString(held.Path);
        using var text = new CString(name);
        var few = stackalloc byte[Usual];
        var length = Libc.getxattr(path.Pointer, text.Pointer, few, Usual);
        if (length >= 0)
            return new Span<byte>(few, (int)length).ToArray();
        var errno = Marshal.GetLastSystemError();
        if (errno == Libc.ENODATA)
            return null;
        if (errno != Libc.ERANGE)
            throw Refused(errno);
        var room = new byte[Most];
        fixed (byte* bytes = room)
            length = Libc.getxattr(path.Pointer, text.Pointer, bytes, Most);
        return length >= 0 ? room[..(int)length] : throw Refused(Marshal.GetLastSystemError());
    }

    /// <summary>There is none at all, of any kind: most files have none.</summary>
    public static bool None(Held held)
    {
        using var path = new CString(held.Path);
        return Libc.listxattr(path.Pointer, null, 0) == 0;
    }

    /// <param name="value">Null: there is to be none of that name.</param>
    /// <exception cref="NotSupportedException">The file system keeps none of its kind.</exception>
    /// <exception cref="IOException">It cannot be set.</exception>
    public static void Set(Held held, string name, byte[]? value)
    {
        using var path = new CString(held.Path);
        using var text = new CString(name);
        if (value is null)
        {
            if (
                Libc.removexattr(path.Pointer, text.Pointer) < 0
                && Marshal.GetLastSystemError() is var none and not Libc.ENODATA
            )
                throw Refused(none);
            return;
        }

        fixed (byte* bytes = value)
            if (Libc.setxattr(path.Pointer, text.Pointer, bytes, value.Length, 0) < 0)
                throw Refused(Marshal.GetLastSystemError());
    }

    private static Exception Refused(int errno) =>
        errno == Libc.EOPNOTSUPP ? new NotSupportedException() : new IOException(Names.Errno(errno));
}
