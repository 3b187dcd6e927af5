using System.Buffers.Text;
using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The second half of a launch, in a process of its own: fork(2) is unsafe in a managed runtime, so the settings are
/// put on by a fresh image of the keeper, which then becomes the program. The first step that fails is written to the
/// close-on-exec status pipe as two 32-bit numbers, step and errno. Two zeros are the last word before execve(2): a pipe
/// that closes after them says that the program's image is in place, one that closes without them that this process
/// has died.
/// </summary>
internal static unsafe class Enter
{
    private static int statusPipe;

    public static int Become(int spec, int status, int input, int output, int error)
    {
        statusPipe = status;
        var length = (int)lseek(spec, 0, 2);
        _ = lseek(spec, 0, 0);
        var body = (byte*)NativeMemory.Alloc((nuint)length + 1);
        for (nint have = 0; have < length; )
        {
            var got = read(spec, body + have, length - have);
            if (got <= 0)
                Fail(LaunchStep.Order);
            have += got;
        }

        var order = Read(body, length);

        if (setsid() < 0)
            Fail(LaunchStep.Session);
        if (dup2(input, 0) < 0 || dup2(output, 1) < 0 || dup2(error, 2) < 0)
            Fail(LaunchStep.Streams);
        if (order.Terminal && !Terminal.Control(0))
            Fail(LaunchStep.Terminal);
        Limit(order);
        if (order.Sockets is not null && !SeeOwn(order.Sockets))
            Fail(LaunchStep.Sockets);
        TakeUsualStanding();
        TakeIdentity(order);
        if (!ResetSignals())
            Fail(LaunchStep.Signals);
        if (syscall(SYS_close_range, 3, unchecked((nint)uint.MaxValue), (nint)CLOSE_RANGE_CLOEXEC) < 0)
            Fail(LaunchStep.Streams);
        Report(LaunchStep.None, 0); // all but the image is in place
        _ = execve(order.Program, order.Argv, order.Envp);
        Fail(LaunchStep.Execute);
        return 127;
    }

    /// <summary>A launch as the order says it; its texts lie in the order itself.</summary>
    private struct Order()
    {
        public byte* Program,
            Directory,
            Sockets;
        public byte** Argv,
            Envp;
        public uint* Groups;
        public byte* Processors;
        public long Uid = -1,
            Gid = -1,
            Mask = -1,
            Nice,
            Disk = -1,
            OpenFiles,
            UsualFiles;
        public bool NoMoreRights,
            LowPorts,
            SomeProcessors,
            Terminal;
        public int GroupCount;
    }

    private static Order Read(byte* body, int length)
    {
        var order = new Order { Processors = (byte*)NativeMemory.AllocZeroed(128) };
        int arguments = 0,
            variables = 0;
        foreach (var field in new Fields(new ReadOnlySpan<byte>(body, length)))
        {
            if (field.Is(LaunchField.Argument))
                arguments++;
            else if (field.Is(LaunchField.Environment))
                variables++;
            else if (field.Is(LaunchField.Supplementary))
                order.GroupCount++;
            else if (field.Is(LaunchField.Program))
                order.Program = body + field.Offset;
            else if (field.Is(LaunchField.Directory))
                order.Directory = body + field.Offset;
            else if (field.Is(LaunchField.Sockets))
                order.Sockets = body + field.Offset;
            else if (field.Is(LaunchField.UserId))
                order.Uid = Number(field.Value);
            else if (field.Is(LaunchField.GroupId))
                order.Gid = Number(field.Value);
            else if (field.Is(LaunchField.Mask))
                order.Mask = Octal(field.Value);
            else if (field.Is(LaunchField.Nice))
                order.Nice = Number(field.Value);
            else if (field.Is(LaunchField.Disk))
                order.Disk = Number(field.Value);
            else if (field.Is(LaunchField.OpenFiles))
                order.OpenFiles = Number(field.Value);
            else if (field.Is(LaunchField.UsualFiles))
                order.UsualFiles = Number(field.Value);
            else if (field.Is(LaunchField.NoMoreRights))
                order.NoMoreRights = true;
            else if (field.Is(LaunchField.LowPorts))
                order.LowPorts = true;
            else if (field.Is(LaunchField.Terminal))
                order.Terminal = true;
            else if (field.Is(LaunchField.Join))
                Join(body + field.Offset);
            else if (field.Is(LaunchField.Processor) && Number(field.Value) is >= 0 and < 1024 and var processor)
            {
                order.SomeProcessors = true;
                order.Processors[processor / 8] |= (byte)(1 << (int)(processor % 8));
            }
        }

        order.Argv = (byte**)NativeMemory.AllocZeroed((nuint)(arguments + 1), (nuint)sizeof(byte*));
        order.Envp = (byte**)NativeMemory.AllocZeroed((nuint)(variables + 1), (nuint)sizeof(byte*));
        order.Groups = (uint*)NativeMemory.AllocZeroed((nuint)(order.GroupCount + 1), sizeof(uint));
        arguments = variables = order.GroupCount = 0;
        foreach (var field in new Fields(new ReadOnlySpan<byte>(body, length)))
        {
            if (field.Is(LaunchField.Argument))
                order.Argv[arguments++] = body + field.Offset;
            else if (field.Is(LaunchField.Environment))
                order.Envp[variables++] = body + field.Offset;
            else if (field.Is(LaunchField.Supplementary))
                order.Groups[order.GroupCount++] = (uint)Number(field.Value);
        }
        return order;
    }

    private static void Limit(in Order order)
    {
        // All of these are per thread in the kernel, and only the thread that executes counts.
        if (order.Nice != 0 && setpriority(PRIO_PROCESS, 0, (int)order.Nice) < 0)
            Fail(LaunchStep.Priority);
        if (
            order.Disk >= 0
            && syscall(Arm ? SYS_ioprio_set_arm64 : SYS_ioprio_set_x64, IOPRIO_WHO_PROCESS, 0, (nint)order.Disk) < 0
        )
            Fail(LaunchStep.Priority);
        if (order.SomeProcessors && sched_setaffinity(0, 128, order.Processors) < 0)
            Fail(LaunchStep.Processors);
        if (order.OpenFiles > 0)
        {
            var limits = stackalloc ulong[2] { (ulong)order.OpenFiles, (ulong)order.OpenFiles };
            if (setrlimit(RLIMIT_NOFILE, limits) < 0)
                Fail(LaunchStep.OpenFiles);
        }
        else if (order.UsualFiles > 0)
        {
            var limits = stackalloc ulong[2];
            if (getrlimit(RLIMIT_NOFILE, limits) == 0)
            {
                limits[0] = Math.Min((ulong)order.UsualFiles, limits[1]); // the runtime has raised its own
                _ = setrlimit(RLIMIT_NOFILE, limits);
            }
        }
    }

    /// <summary>
    /// In a namespace of its own, which still sees what the host mounts, its folder lies where displays have their sockets. What is
    /// there on the host must be root's own folder: only then can nobody move it away from under it.
    /// </summary>
    private static bool SeeOwn(byte* folder)
    {
        using var none = new Linux.Native.CString("none");
        using var root = new Linux.Native.CString("/");
        using var place = new Linux.Native.CString(LaunchField.DisplaySockets);
        if (unshare(CLONE_NEWNS) < 0 || mount(none.Pointer, root.Pointer, null, MS_REC | MS_SLAVE, null) < 0)
            return false;
        var there = openat2(
            AT_FDCWD,
            place.Pointer,
            O_PATH | O_DIRECTORY | O_CLOEXEC,
            RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS
        );
        if (there < 0)
            return false;
        if (Linux.Files.FileFacts.Of(there) is not { Owner: 0 })
        {
            _ = close(there);
            Marshal.SetLastSystemError(1); // EPERM
            return false;
        }

        using var target = new Linux.Native.CString($"/proc/self/fd/{there}");
        var seen = mount(folder, target.Pointer, null, MS_BIND, null) == 0;
        var errno = Marshal.GetLastSystemError();
        _ = close(there);
        Marshal.SetLastSystemError(errno);
        return seen;
    }

    private static void TakeIdentity(in Order order)
    {
        if (order.LowPorts && prctl(PR_SET_KEEPCAPS, 1, 0, 0, 0) < 0)
            Fail(LaunchStep.LowPorts);
        if (
            order.Uid >= 0
            && TakeIdentity(order.Uid, order.Gid, order.Groups, order.GroupCount) is var step and not LaunchStep.None
        )
            Fail(step);
        if (order.LowPorts && !KeepLowPorts())
            Fail(LaunchStep.LowPorts);
        if (order.NoMoreRights && prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0) < 0)
            Fail(LaunchStep.Rights);
        _ = umask(order.Mask >= 0 ? (uint)order.Mask : 0x12); // 0022
        if (order.Directory is not null && chdir(order.Directory) < 0)
            Fail(LaunchStep.Directory);
    }

    /// <summary>
    /// Whoever runs out of memory is chosen among programs as on any host: what keeps the sentry itself from that choice is
    /// not handed on (proc(5), oom_score_adj).
    /// </summary>
    public static void TakeUsualStanding()
    {
        fixed (byte* path = "/proc/self/oom_score_adj"u8)
        {
            var file = open(path, O_WRONLY | O_CLOEXEC, 0);
            if (file < 0)
                return;
            var usual = (byte)'0';
            _ = write(file, &usual, 1);
            _ = close(file);
        }
    }

    /// <summary>
    /// Becomes an account for good. Raw calls: the C library's wrappers would change every thread, and only the one
    /// that executes counts.
    /// </summary>
    public static LaunchStep TakeIdentity(long uid, long gid, uint* groups, int groupCount)
    {
        if (syscall(Arm ? SYS_setgroups_arm64 : SYS_setgroups_x64, groupCount, (nint)groups, 0) < 0)
            return LaunchStep.Groups;
        if (syscall(Arm ? SYS_setresgid_arm64 : SYS_setresgid_x64, (nint)gid, (nint)gid, (nint)gid) < 0)
            return LaunchStep.Group;
        return syscall(Arm ? SYS_setresuid_arm64 : SYS_setresuid_x64, (nint)uid, (nint)uid, (nint)uid) < 0
            ? LaunchStep.Account
            : LaunchStep.None;
    }

    /// <summary>
    /// Of root's rights the one to open low ports stays, and is handed on at exec as an ambient one (capabilities(7),
    /// capset(2), prctl(2) PR_CAP_AMBIENT_RAISE).
    /// </summary>
    private static bool KeepLowPorts()
    {
        const uint version = 0x20080522;
        const int netBindService = 10;
        var head = stackalloc uint[2] { version, 0 };
        // Effective, permitted, inheritable; twice, for numbers below 32 and above.
        const uint right = 1u << netBindService;
        var rights = stackalloc uint[6] { right, right, right, 0, 0, 0 };
        return syscall(Arm ? SYS_capset_arm64 : SYS_capset_x64, (nint)head, (nint)rights, 0) >= 0
            && prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_RAISE, netBindService, 0, 0) >= 0;
    }

    /// <summary>
    /// The runtime ignores SIGPIPE and exec would hand that on. Live handlers fall away by themselves at exec.
    /// </summary>
    public static bool ResetSignals()
    {
        var action = stackalloc byte[152];
        for (var signal = 1; signal <= 64; signal++)
        {
            if (signal is SIGKILL or 19 or 32 or 33 || sigaction(signal, null, action) < 0 || *(nint*)action != 1)
                continue;
            *(nint*)action = 0;
            if (sigaction(signal, action, null) < 0)
                return false;
        }

        var none = stackalloc byte[128];
        _ = sigemptyset(none);
        return sigprocmask(SIG_SETMASK, none, null) == 0;
    }

    private static bool Arm => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    private static void Join(byte* group)
    {
        if (!Joined(group))
            Fail(LaunchStep.Ceilings);
    }

    /// <summary>Puts this process into a control group; errno says why not.</summary>
    public static bool Joined(byte* group)
    {
        var procs = Tree.OpenIn(group, "/cgroup.procs"u8, O_WRONLY);
        var self = (byte)'0';
        if (procs < 0 || write(procs, &self, 1) != 1)
            return false;
        _ = close(procs);
        return true;
    }

    private static void Report(LaunchStep step, int errno)
    {
        var report = stackalloc int[2] { (int)step, errno };
        _ = write(statusPipe, (byte*)report, 8);
    }

    private static void Fail(LaunchStep step)
    {
        Report(step, Marshal.GetLastSystemError());
        _exit(127);
    }

    private static long Number(ReadOnlySpan<byte> text) =>
        Utf8Parser.TryParse(text, out long number, out _) ? number : -1;

    private static long Octal(ReadOnlySpan<byte> text)
    {
        long number = 0;
        foreach (var digit in text)
            number = (number * 8) + (digit - '0');
        return number;
    }
}
