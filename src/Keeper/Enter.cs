using System.Buffers.Text;
using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The second half of a launch, in the keeper's own copy of itself (clone3(2), memory not shared): it puts the settings on
/// itself and becomes the program. Of a managed runtime only the one thread that made it goes on there, so from the clone to
/// execve(2) nothing is allocated, nothing is looked up for the first time, no lock is taken, and every call is one that
/// makes no transition to the collector (<c>Enter.Calls.cs</c>); all that needs more is laid out before
/// (<see cref="Order"/>). The first step that fails is written to the close-on-exec status pipe as two 32-bit numbers, step
/// and errno. Two zeros are the last word before execve(2): a pipe that closes after them says that the program's image is in
/// place, one that closes without them that this process has died.
/// </summary>
internal static unsafe partial class Enter
{
    /// <summary>A launch as an order says it, ready for the child: its texts lie in the order itself.</summary>
    public struct Order()
    {
        public byte* Program,
            Directory,
            Sockets;
        public byte** Argv,
            Envp,
            Joins;
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

        /// <summary>Looked up before the clone, as all that is not the same on every processor.</summary>
        public int AsPlace = O_PATH | O_DIRECTORY | O_CLOEXEC;
        private byte* room;

        /// <param name="order">Of a launch; stays where it is until the child has executed.</param>
        public static Order Of(byte* order, int length)
        {
            var body = new ReadOnlySpan<byte>(order, length);
            int fields = 0,
                joins = 0;
            foreach (var field in new Fields(body))
            {
                fields++;
                joins += field.Is(LaunchField.Join) ? field.Value.Length + TasksFile.Length + 1 : 0;
            }

            // One room for all: pointers of arguments, variables and groups to join, each list closed by a null; then numbers; then texts.
            var pointers = (nuint)(fields + 3) * (nuint)sizeof(byte*);
            var numbers = (nuint)(fields + 1) * sizeof(uint);
            var made = new Order
            {
                room = (byte*)NativeMemory.AllocZeroed(pointers + numbers + Mask1024 + (nuint)joins),
            };
            made.Groups = (uint*)(made.room + pointers);
            made.Processors = made.room + pointers + numbers;
            var text = made.Processors + Mask1024;
            var next = made.Argv = (byte**)made.room;
            foreach (var field in new Fields(body))
                if (field.Is(LaunchField.Argument))
                    *next++ = order + field.Offset;
            made.Envp = ++next;
            foreach (var field in new Fields(body))
                if (field.Is(LaunchField.Environment))
                    *next++ = order + field.Offset;
            made.Joins = ++next;
            foreach (var field in new Fields(body))
                if (field.Is(LaunchField.Join))
                {
                    *next++ = text;
                    field.Value.CopyTo(new Span<byte>(text, field.Value.Length));
                    TasksFile.CopyTo(new Span<byte>(text + field.Value.Length, TasksFile.Length));
                    text += field.Value.Length + TasksFile.Length + 1;
                }
                else
                    made.Take(field, order);
            return made;
        }

        /// <summary>
        /// Of a version 1 group (cgroups(7)). The child is one thread, and for one that moves itself the kernel (since 5.5) stops no
        /// others: all four are joined in 0.2 ms, by <c>cgroup.procs</c> it would be 11.
        /// </summary>
        private static ReadOnlySpan<byte> TasksFile => "/tasks"u8;

        private const int Mask1024 = 128; // bytes of a mask of processors

        private void Take(Field field, byte* order)
        {
            if (field.Is(LaunchField.Supplementary))
                Groups[GroupCount++] = (uint)Number(field.Value);
            else if (field.Is(LaunchField.Program))
                Program = order + field.Offset;
            else if (field.Is(LaunchField.Directory))
                Directory = order + field.Offset;
            else if (field.Is(LaunchField.Sockets))
                Sockets = order + field.Offset;
            else if (field.Is(LaunchField.UserId))
                Uid = Number(field.Value);
            else if (field.Is(LaunchField.GroupId))
                Gid = Number(field.Value);
            else if (field.Is(LaunchField.Mask))
                Mask = Octal(field.Value);
            else if (field.Is(LaunchField.Nice))
                Nice = Number(field.Value);
            else if (field.Is(LaunchField.Disk))
                Disk = Number(field.Value);
            else if (field.Is(LaunchField.OpenFiles))
                OpenFiles = Number(field.Value);
            else if (field.Is(LaunchField.UsualFiles))
                UsualFiles = Number(field.Value);
            else if (field.Is(LaunchField.NoMoreRights))
                NoMoreRights = true;
            else if (field.Is(LaunchField.LowPorts))
                LowPorts = true;
            else if (field.Is(LaunchField.Terminal))
                Terminal = true;
            else if (
                field.Is(LaunchField.Processor) && Number(field.Value) is >= 0 and < Mask1024 * 8 and var processor
            )
            {
                SomeProcessors = true;
                Processors[processor / 8] |= (byte)(1 << (int)(processor % 8));
            }
        }

        public void Dispose()
        {
            NativeMemory.Free(room);
            room = null;
        }
    }

    private static int statusPipe;

    /// <summary>In the child, from the clone on. It returns to nobody.</summary>
    /// <param name="status">The status pipe's end to write to.</param>
    public static void Become(in Order order, int status, int input, int output, int error)
    {
        statusPipe = status;
        for (var join = order.Joins; *join is not null; join++)
            if (!Joined(*join))
                Fail(LaunchStep.Ceilings);
        if (setsid() < 0)
            Fail(LaunchStep.Session);
        if (dup2(input, 0) < 0 || dup2(output, 1) < 0 || dup2(error, 2) < 0)
            Fail(LaunchStep.Streams);
        // The keeper's own are let go at once, not only at execve(2): a file system that hangs there would have a lock and a
        // connection held on by nobody.
        if (CloseRange(3, (uint)status - 1, 0) < 0 || CloseRange((uint)status + 1, uint.MaxValue, 0) < 0)
            Fail(LaunchStep.Streams);
        if (order.Terminal && ioctl(0, TIOCSCTTY, 0) < 0)
            Fail(LaunchStep.Terminal);
        TakeUsualStanding(order.SomeProcessors);
        Limit(order);
        if (order.Sockets is not null && !SeeOwn(order))
            Fail(LaunchStep.Sockets);
        TakeIdentity(order);
        if (!ResetSignals())
            Fail(LaunchStep.Signals);
        if (CloseRange(3, uint.MaxValue, CLOSE_RANGE_CLOEXEC) < 0)
            Fail(LaunchStep.Streams);
        Report(LaunchStep.None, 0); // all but the image is in place
        _ = execve(order.Program, order.Argv, order.Envp);
        Fail(LaunchStep.Execute);
    }

    /// <summary>Both inclusive; of the first end nothing where it lies behind the last.</summary>
    private static nint CloseRange(uint first, uint last, uint how) =>
        first > last ? 0 : syscall(SYS_close_range, (nint)first, (nint)last, (nint)how);

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
        var limits = stackalloc ulong[2] { (ulong)order.OpenFiles, (ulong)order.OpenFiles };
        if (order.OpenFiles > 0)
        {
            if (setrlimit(RLIMIT_NOFILE, limits) < 0)
                Fail(LaunchStep.OpenFiles);
        }
        else if (order.UsualFiles > 0 && getrlimit(RLIMIT_NOFILE, limits) == 0)
        {
            limits[0] = Math.Min((ulong)order.UsualFiles, limits[1]); // the runtime has raised its own
            _ = setrlimit(RLIMIT_NOFILE, limits);
        }
    }

    /// <summary>
    /// In a namespace of its own, which still sees what the host mounts, its folder lies where displays have their sockets. What is
    /// there on the host must be root's own folder: only then can nobody move it away from under it.
    /// </summary>
    private static bool SeeOwn(in Order order)
    {
        const int ownerAt = 20; // struct statx: stx_uid
        // The place is LaunchField.DisplaySockets, as bytes: no text can be made here.
        fixed (
            byte* none = "none"u8,
                root = "/"u8,
                place = "/tmp/.X11-unix"u8,
                nothing = "\0"u8
        )
        {
            if (unshare(CLONE_NEWNS) < 0 || mount(none, root, null, MS_REC | MS_SLAVE, null) < 0)
                return false;
            var there = openat2(AT_FDCWD, place, order.AsPlace, RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS);
            if (there < 0)
                return false;
            var facts = stackalloc byte[256];
            if (statx(there, nothing, AT_EMPTY_PATH, STATX_BASIC_STATS, facts) < 0 || *(uint*)(facts + ownerAt) != 0)
            {
                *__errno_location() = EPERM;
                return false;
            }

            var target = stackalloc byte[32];
            var text = new Span<byte>(target, 32);
            text.Clear();
            "/proc/self/fd/"u8.CopyTo(text);
            Utf8Formatter.TryFormat(there, text["/proc/self/fd/"u8.Length..^1], out _);
            return mount(order.Sockets, target, null, MS_BIND, null) == 0;
        }
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
    /// The runtime ignores SIGPIPE and exec would hand that on. Its handlers would fall away at exec by themselves, but until then
    /// what waits behind the mask must find none: the thread that one of them speaks to is not there.
    /// </summary>
    public static bool ResetSignals()
    {
        // The kernel's own struct, by the call itself: the C library keeps signals 32 and 33 to itself, and they are handed on too.
        var action = stackalloc nint[8];
        var number = Arm ? SYS_rt_sigaction_arm64 : SYS_rt_sigaction_x64;
        for (var signal = 1; signal <= 64; signal++)
        {
            if (signal is SIGKILL or 19 || syscall(number, signal, 0, (nint)action, 8) < 0 || action[0] == 0)
                continue;
            new Span<nint>(action, 8).Clear();
            if (syscall(number, signal, (nint)action, 0, 8) < 0)
                return false;
        }

        var none = stackalloc byte[128];
        _ = sigemptyset(none);
        return sigprocmask(SIG_SETMASK, none, null) == 0;
    }

    private static bool Arm => RuntimeInformation.ProcessArchitecture == Architecture.Arm64;

    /// <summary>Puts whoever calls into a control group; errno says why not.</summary>
    /// <param name="members">Its file <c>tasks</c> (this thread) or <c>cgroup.procs</c> (this process).</param>
    public static bool Joined(byte* members)
    {
        var file = open(members, O_WRONLY | O_CLOEXEC, 0);
        var self = (byte)'0';
        if (file < 0 || write(file, &self, 1) != 1)
            return false;
        _ = close(file);
        return true;
    }

    private static void Report(LaunchStep step, int errno)
    {
        var report = stackalloc int[2] { (int)step, errno };
        _ = write(statusPipe, (byte*)report, 8);
    }

    private static void Fail(LaunchStep step)
    {
        Report(step, *__errno_location());
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
