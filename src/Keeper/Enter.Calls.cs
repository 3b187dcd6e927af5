using System.Runtime.InteropServices;

namespace CalmSentry.Keeper;

/// <summary>
/// The calls of the child of a launch: those of <see cref="Linux.Native.Libc"/>, without a transition to the collector. Each may hold up
/// whoever calls it for as long as it takes, and is for nobody else but processes that do one thing and end.
/// </summary>
internal static unsafe partial class Enter
{
    private const nint TIOCSCTTY = 0x540E,
        SYS_rt_sigaction_x64 = 13,
        SYS_rt_sigaction_arm64 = 134;
    private const uint STATX_BASIC_STATS = 0x7ff;

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int* __errno_location();

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int open(byte* path, int flags, int mode);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial nint write(int file, byte* from, nint count);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int close(int file);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int dup2(int from, int to);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int ioctl(int file, nint request, nint argument);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int setsid();

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int setpriority(int which, int who, int nice);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int sched_setaffinity(int process, nuint length, byte* mask);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int getrlimit(int resource, ulong* limits);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int setrlimit(int resource, ulong* limits);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int unshare(int flags);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int mount(byte* source, byte* target, byte* kind, nuint flags, byte* data);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int statx(int directory, byte* path, int flags, uint mask, byte* into);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int prctl(int option, nuint a, nuint b, nuint c, nuint d);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial uint umask(uint mask);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int chdir(byte* path);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int sigemptyset(byte* set);

    [LibraryImport("libc"), SuppressGCTransition]
    private static partial int sigprocmask(int how, byte* set, byte* before);
}
