using System.Runtime.InteropServices;

namespace CalmSentry.Linux.Native;

/// <summary>errno and signal numbers in words, as the host's own C library has them.</summary>
public static unsafe class Names
{
    /// <summary>For example <c>no such file or directory (ENOENT)</c>.</summary>
    public static string Errno(int errno)
    {
        var name = Marshal.PtrToStringUTF8((nint)Libc.strerrorname_np(errno));
        var words = Marshal.PtrToStringUTF8((nint)Libc.strerrordesc_np(errno));
        return name is null ? $"error {errno}" : $"{words!.ToLowerInvariant()} ({name})";
    }

    /// <summary>For example <c>TERM</c>; real-time signals as <c>RTMIN+n</c>.</summary>
    public static string Signal(int signal) =>
        Marshal.PtrToStringUTF8((nint)Libc.sigabbrev_np(signal))
        ?? (signal >= 34 ? $"RTMIN+{signal - 34}" : $"{signal}");
}
