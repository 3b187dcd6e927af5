using System.Runtime.InteropServices;

namespace CalmSentry.Linux.Native;

/// <summary>
/// The C library's calls as they are: blittable, no marshalling, errno read by the caller straight after the call with
/// <see cref="Marshal.GetLastSystemError"/>. Names and numbers follow the man pages, sections 2 and 3, for Linux.
/// </summary>
internal static unsafe partial class Libc
{
    public const int EBADF = 9,
        EINTR = 4,
        EPERM = 1,
        ENOENT = 2,
        EEXIST = 17,
        EAGAIN = 11,
        ENOSPC = 28,
        EDQUOT = 122,
        ENXIO = 6,
        ECHILD = 10,
        EIO = 5,
        EACCES = 13;
    public const int O_RDONLY = 0,
        O_WRONLY = 1,
        O_RDWR = 2,
        O_CREAT = 0x40,
        O_APPEND = 0x400,
        O_TRUNC = 0x200,
        O_NONBLOCK = 0x800,
        O_CLOEXEC = 0x80000,
        O_PATH = 0x200000,
        O_EXCL = 0x80,
        O_NOCTTY = 0x100;

    /// <summary>struct open_how of openat2(2): 24 bytes.</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct OpenHow
    {
        public ulong Flags,
            Mode,
            Resolve;
    }

    /// <summary>openat2(2): as openat(2), with a say in what a path may lead through.</summary>
    public static int openat2(int directory, byte* path, int flags, ulong resolve)
    {
        var how = new OpenHow { Flags = (ulong)flags, Resolve = resolve };
        return (int)syscall(SYS_openat2, directory, (nint)path, (nint)(&how), sizeof(OpenHow));
    }

    // Two flags that are not the same on every processor.
    public static readonly int O_DIRECTORY = IsArm ? 0x4000 : 0x10000,
        O_NOFOLLOW = IsArm ? 0x8000 : 0x20000;

    private static bool IsArm => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    public const int SEEK_SET = 0,
        SEEK_CUR = 1,
        SEEK_END = 2,
        SEEK_DATA = 3,
        SEEK_HOLE = 4;
    public const int F_SETFD = 2,
        F_SETFL = 4,
        FD_CLOEXEC = 1;
    public const int LOCK_EX = 2,
        LOCK_NB = 4;
    public const int SIGKILL = 9,
        SIGTERM = 15,
        SIGCHLD = 17,
        SIGCONT = 18,
        SIGSTOP = 19,
        SIGURG = 23;
    public const int SIG_SETMASK = 2;
    public const short POLLIN = 1,
        POLLOUT = 4,
        POLLHUP = 0x10,
        POLLRDHUP = 0x2000;
    public const int WNOHANG = 1,
        WUNTRACED = 2,
        WCONTINUED = 8;
    public const int PR_SET_PDEATHSIG = 1,
        PR_SET_CHILD_SUBREAPER = 36;
    public const int FALLOC_FL_KEEP_SIZE = 1;
    public const uint CLOSE_RANGE_CLOEXEC = 4;
    public const ulong CLONE_INTO_CGROUP = 0x200000000;
    public const int AF_UNIX = 1,
        SOCK_STREAM = 1,
        SOCK_CLOEXEC = 0x80000,
        SOCK_NONBLOCK = 0x800,
        MSG_NOSIGNAL = 0x4000;
    public const int PR_SET_KEEPCAPS = 8,
        PR_CAP_AMBIENT = 47,
        PR_CAP_AMBIENT_RAISE = 2,
        SYS_capset_x64 = 126,
        SYS_capset_arm64 = 91;
    public const int SYS_setresuid_x64 = 117,
        SYS_setresgid_x64 = 119,
        SYS_setgroups_x64 = 116;
    public const int SYS_setresuid_arm64 = 147,
        SYS_setresgid_arm64 = 149,
        SYS_setgroups_arm64 = 159;
    private const int SYS_clone_x64 = 56,
        SYS_clone_arm64 = 220,
        SYS_clone3 = 435;
    public const int SYS_close_range = 436,
        SYS_faccessat2 = 439,
        SYS_openat2 = 437;
    public const ulong RESOLVE_NO_MAGICLINKS = 2,
        RESOLVE_NO_SYMLINKS = 4;
    public const int CLONE_NEWNS = 0x20000;
    public const nuint MS_BIND = 4096,
        MS_REC = 16384,
        MS_PRIVATE = 1 << 18,
        MS_SLAVE = 1 << 19;
    public const int SYS_keyctl_x64 = 250,
        SYS_keyctl_arm64 = 219,
        KEYCTL_GET_KEYRING_ID = 0,
        KEYCTL_JOIN_SESSION_KEYRING = 1,
        KEY_SPEC_SESSION_KEYRING = -3;
    public const int SYS_prlimit_x64 = 302,
        SYS_prlimit_arm64 = 261,
        SYS_personality_x64 = 135,
        SYS_personality_arm64 = 92,
        SYS_set_mempolicy_x64 = 238,
        SYS_set_mempolicy_arm64 = 237,
        SYS_sched_setscheduler_x64 = 144,
        SYS_sched_setscheduler_arm64 = 119,
        SYS_sched_getaffinity_x64 = 204,
        SYS_sched_getaffinity_arm64 = 123;
    public const int PR_SET_SECUREBITS = 28,
        PR_SET_TIMERSLACK = 29,
        PR_SET_THP_DISABLE = 41,
        UsualSlack = 50_000; // nanoseconds: what the kernel gives its first process
    public const int SYS_ioctl_x64 = 16,
        SYS_ioctl_arm64 = 29;
    public const int SYS_ioprio_set_x64 = 251,
        SYS_ioprio_get_x64 = 252,
        SYS_ioprio_set_arm64 = 30,
        SYS_ioprio_get_arm64 = 31;
    public const int PR_SET_NO_NEW_PRIVS = 38,
        PRIO_PROCESS = 0,
        RLIMIT_FSIZE = 1,
        RLIMIT_DATA = 2,
        RLIMIT_CORE = 4,
        RLIMIT_NPROC = 6,
        RLIMIT_NOFILE = 7,
        IOPRIO_WHO_PROCESS = 1;
    public const int SYS_pidfd_send_signal = 424,
        SYS_pidfd_open = 434,
        SYS_pidfd_getfd = 438;
    public const int EBUSY = 16,
        EINVAL = 22,
        ENOSYS = 38;
    public const int ENODATA = 61,
        EOPNOTSUPP = 95,
        ERANGE = 34,
        ESRCH = 3,
        EMFILE = 24,
        ENFILE = 23,
        ENOMEM = 12;
    public const uint RENAME_NOREPLACE = 1,
        RENAME_EXCHANGE = 2;
    public const int AT_REMOVEDIR = 0x200,
        AT_SYMLINK_NOFOLLOW = 0x100,
        AT_EMPTY_PATH = 0x1000;
    public const int AT_FDCWD = -100,
        AT_EACCESS = 0x200,
        R_OK = 4,
        W_OK = 2,
        X_OK = 1;

    [StructLayout(LayoutKind.Sequential)]
    public struct PollFd
    {
        public int Fd;
        public short Events;
        public short Revents;
    }

    /// <summary>struct clone_args of clone3(2), version 2: 88 bytes.</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct CloneArgs
    {
        public ulong Flags,
            PidFd,
            ChildTid,
            ParentTid,
            ExitSignal,
            Stack,
            StackSize,
            Tls,
            SetTid,
            SetTidSize,
            Cgroup;
    }

    /// <summary>
    /// A copy of this process, in which the calling thread alone goes on: clone3(2), and where the host does not know that (Linux
    /// before 5.3, and what stands in for a kernel) clone(2), which puts it into no group.
    /// </summary>
    /// <returns>Its number, and 0 in it; -1 with errno set.</returns>
    public static int Copy(CloneArgs clone)
    {
        var child = (int)syscall(SYS_clone3, (nint)(&clone), sizeof(CloneArgs), 0);
        return child < 0 && Marshal.GetLastSystemError() == ENOSYS
            ? (int)syscall(
                IsArm ? SYS_clone_arm64 : SYS_clone_x64,
                (nint)((clone.Flags & ~CLONE_INTO_CGROUP) | clone.ExitSignal),
                0,
                0
            )
            : child;
    }

    [StructLayout(LayoutKind.Sequential)]
    public struct TimeVal
    {
        public long Seconds,
            Microseconds;
    }

    /// <summary>struct rusage of getrusage(2): 144 bytes, of which the first fields are used.</summary>
    [StructLayout(LayoutKind.Sequential, Size = 144)]
    public struct ResourceUsage
    {
        public TimeVal User,
            System;
        public long MaxResidentKib;
    }

    /// <summary>struct passwd of getpwnam_r(3).</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct Passwd
    {
        public byte* Name,
            Password;
        public uint Uid,
            Gid;
        public byte* Gecos,
            Directory,
            Shell;
    }

    /// <summary>struct spwd of getspnam_r(3); dates are days since 1970-01-01, -1: none.</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct Shadow
    {
        public byte* Name,
            Password;
        public nint Changed,
            Fewest,
            Most,
            Warns,
            Idle,
            Expires;
        public nuint Reserved;
    }

    /// <summary>struct group of getgrnam_r(3).</summary>
    [StructLayout(LayoutKind.Sequential)]
    public struct Group
    {
        public byte* Name,
            Password;
        public uint Gid;
        public byte** Members;
    }

    [LibraryImport("libc")]
    public static partial int adjtimex(byte* timex);

    [LibraryImport("libc")]
    public static partial int open(byte* path, int flags, int mode);

    [LibraryImport("libc")]
    public static partial int openat(int directory, byte* path, int flags, int mode);

    [LibraryImport("libc")]
    public static partial int mkdirat(int directory, byte* path, uint mode);

    [LibraryImport("libc")]
    public static partial int unlinkat(int directory, byte* path, int flags);

    [LibraryImport("libc")]
    public static partial int renameat(int fromDirectory, byte* from, int toDirectory, byte* to);

    [LibraryImport("libc")]
    public static partial int renameat2(int fromDirectory, byte* from, int toDirectory, byte* to, uint flags);

    [LibraryImport("libc")]
    public static partial int fsync(int fd);

    [LibraryImport("libc")]
    public static partial int syncfs(int fd);

    [LibraryImport("libc")]
    public static partial int fchmod(int fd, uint mode);

    [LibraryImport("libc")]
    public static partial int fchownat(int directory, byte* path, uint uid, uint gid, int flags);

    [LibraryImport("libc")]
    public static partial nint readlinkat(int directory, byte* path, byte* into, nint length);

    [LibraryImport("libc")]
    public static partial nint getxattr(byte* path, byte* name, byte* value, nint length);

    [LibraryImport("libc")]
    public static partial int setxattr(byte* path, byte* name, byte* value, nint length, int flags);

    [LibraryImport("libc")]
    public static partial int removexattr(byte* path, byte* name);

    [LibraryImport("libc")]
    public static partial int fstatfs(int fd, byte* into);

    [LibraryImport("libc")]
    public static partial nint recv(int fd, byte* buffer, nint count, int flags);

    [LibraryImport("libc")]
    public static partial int connect(int fd, byte* address, uint length);

    [LibraryImport("libc")]
    public static partial int unshare(int flags);

    [LibraryImport("libc")]
    public static partial int mount(byte* source, byte* target, byte* kind, nuint flags, byte* data);

    [LibraryImport("libc")]
    public static partial int close(int fd);

    [LibraryImport("libc")]
    public static partial nint read(int fd, byte* buffer, nint count);

    [LibraryImport("libc")]
    public static partial nint pread(int fd, byte* buffer, nint count, long offset);

    [LibraryImport("libc")]
    public static partial nint write(int fd, byte* buffer, nint count);

    /// <param name="times">Two struct timespec: of the last access, and of the last change.</param>
    [LibraryImport("libc")]
    public static partial int futimens(int fd, long* times);

    [LibraryImport("libc")]
    public static partial nint listxattr(byte* path, byte* into, nint room);

    [LibraryImport("libc")]
    public static partial int pipe2(int* ends, int flags);

    [LibraryImport("libc")]
    public static partial int fcntl(int fd, int command, nint argument);

    [LibraryImport("libc")]
    public static partial int poll(PollFd* fds, nuint count, int timeoutMilliseconds);

    /// <param name="wanted">struct timespec: seconds, nanoseconds.</param>
    [LibraryImport("libc")]
    public static partial int nanosleep(long* wanted, long* left);

    [LibraryImport("libc")]
    public static partial int flock(int fd, int operation);

    [LibraryImport("libc")]
    public static partial int fallocate(int fd, int mode, long offset, long length);

    [LibraryImport("libc")]
    public static partial int ftruncate(int fd, long length);

    [LibraryImport("libc")]
    public static partial long lseek(int fd, long offset, int whence);

    [LibraryImport("libc")]
    public static partial int fchown(int fd, uint uid, uint gid);

    [LibraryImport("libc")]
    public static partial int chown(byte* path, uint uid, uint gid);

    [LibraryImport("libc")]
    public static partial int mkdir(byte* path, uint mode);

    [LibraryImport("libc")]
    public static partial int rmdir(byte* path);

    [LibraryImport("libc")]
    public static partial int unlink(byte* path);

    [LibraryImport("libc")]
    public static partial int rename(byte* from, byte* to);

    [LibraryImport("libc")]
    public static partial int chdir(byte* path);

    [LibraryImport("libc")]
    public static partial uint umask(uint mask);

    [LibraryImport("libc")]
    public static partial int setsid();

    [LibraryImport("libc")]
    public static partial int getpid();

    [LibraryImport("libc")]
    public static partial uint geteuid();

    [LibraryImport("libc")]
    public static partial int kill(int pid, int signal);

    [LibraryImport("libc")]
    public static partial int wait4(int pid, int* status, int options, ResourceUsage* usage);

    [LibraryImport("libc")]
    public static partial int prctl(int option, nuint a, nuint b, nuint c, nuint d);

    [LibraryImport("libc")]
    public static partial int setpriority(int which, int who, int nice);

    [LibraryImport("libc")]
    public static partial int sched_setaffinity(int pid, nuint length, byte* mask);

    [LibraryImport("libc")]
    public static partial int setrlimit(int resource, ulong* limits);

    [LibraryImport("libc")]
    public static partial int getrlimit(int resource, ulong* limits);

    [LibraryImport("libc")]
    public static partial int statx(int directory, byte* path, int flags, uint mask, byte* into);

    [LibraryImport("libc")]
    public static partial byte* realpath(byte* path, byte* into);

    [LibraryImport("libc")]
    public static partial int statfs(byte* path, byte* into);

    [LibraryImport("libc")]
    public static partial int signalfd(int fd, byte* set, int flags);

    [LibraryImport("libc")]
    public static partial int sigemptyset(byte* set);

    [LibraryImport("libc")]
    public static partial int sigaddset(byte* set, int signal);

    [LibraryImport("libc")]
    public static partial int sigprocmask(int how, byte* set, byte* old);

    [LibraryImport("libc")]
    public static partial int socket(int domain, int type, int protocol);

    [LibraryImport("libc")]
    public static partial int socketpair(int domain, int type, int protocol, int* ends);

    [LibraryImport("libc")]
    public static partial int bind(int fd, byte* address, uint length);

    [LibraryImport("libc")]
    public static partial int listen(int fd, int backlog);

    [LibraryImport("libc")]
    public static partial int accept4(int fd, byte* address, uint* length, int flags);

    [LibraryImport("libc")]
    public static partial nint send(int fd, byte* buffer, nint count, int flags);

    [LibraryImport("libc")]
    public static partial int getsockopt(int fd, int level, int option, void* value, uint* length);

    [LibraryImport("libc")]
    public static partial int getpwnam_r(byte* name, Passwd* into, byte* buffer, nuint length, Passwd** result);

    [LibraryImport("libc")]
    public static partial int getpwuid_r(uint uid, Passwd* into, byte* buffer, nuint length, Passwd** result);

    [LibraryImport("libc")]
    public static partial int getspnam_r(byte* name, Shadow* into, byte* buffer, nuint length, Shadow** result);

    [LibraryImport("libc")]
    public static partial int getgrnam_r(byte* name, Group* into, byte* buffer, nuint length, Group** result);

    [LibraryImport("libc")]
    public static partial int getgrgid_r(uint gid, Group* into, byte* buffer, nuint length, Group** result);

    [LibraryImport("libc")]
    public static partial int getgrouplist(byte* user, uint group, uint* groups, int* count);

    [LibraryImport("libc")]
    public static partial int posix_spawn(
        int* pid,
        byte* path,
        byte* fileActions,
        byte* attributes,
        byte** argv,
        byte** envp
    );

    [LibraryImport("libc")]
    public static partial int posix_spawnattr_init(byte* attributes);

    [LibraryImport("libc")]
    public static partial int posix_spawnattr_destroy(byte* attributes);

    [LibraryImport("libc")]
    public static partial int posix_spawnattr_setflags(byte* attributes, short flags);

    [LibraryImport("libc")]
    public static partial int posix_spawnattr_setsigmask(byte* attributes, byte* set);

    [LibraryImport("libc")]
    public static partial int posix_spawn_file_actions_init(byte* actions);

    [LibraryImport("libc")]
    public static partial int posix_spawn_file_actions_destroy(byte* actions);

    [LibraryImport("libc")]
    public static partial int posix_spawn_file_actions_adddup2(byte* actions, int from, int to);

    [LibraryImport("libc")]
    public static partial int posix_spawn_file_actions_addopen(byte* actions, int fd, byte* path, int flags, uint mode);

    [LibraryImport("libc")]
    public static partial byte* strerrordesc_np(int errno);

    [LibraryImport("libc")]
    public static partial byte* strerrorname_np(int errno);

    [LibraryImport("libc")]
    public static partial byte* sigabbrev_np(int signal);

    // Between clone3 and execve the child is one thread of a copied runtime: these three make no transition to the
    // collector, which waits for whoever is in one. So the server calls nothing by them that could wait: no path, no lock.
    [LibraryImport("libc", EntryPoint = "syscall"), SuppressGCTransition]
    public static partial nint syscall(nint number, nint a, nint b, nint c, nint d = 0);

    [LibraryImport("libc"), SuppressGCTransition]
    public static partial int execve(byte* path, byte** argv, byte** envp);

    [LibraryImport("libc"), SuppressGCTransition]
    public static partial void _exit(int status);
}
