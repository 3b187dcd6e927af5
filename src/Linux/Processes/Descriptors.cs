using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>Descriptors of this process.</summary>
public static class Descriptors
{
    /// <summary>Nothing this process executes gets it.</summary>
    public static void KeepFromChildren(int descriptor) => _ = Libc.fcntl(descriptor, Libc.F_SETFD, Libc.FD_CLOEXEC);
}
