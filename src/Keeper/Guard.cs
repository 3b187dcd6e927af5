using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The keeper's one loop: orders from the server, ends of processes, output, the launch's status pipe. It holds no policy:
/// it does what it is told and says what it saw. Without a server it keeps the run going, and leaves once that has ended.
/// </summary>
internal sealed unsafe class Guard
{
    private enum Phase { Idle, Launching, Live, Ending }

    private const int Server = 0, Listener = 1, Children = 2, Output = 3, Error = 4, Status = 5, Watched = 6;

    private readonly int[] fds = [3, -1, -1, -1, -1, -1];
    private readonly Pump pump = new();
    private byte[] inbox = new byte[1024];
    private int inboxLength;
    private Phase phase;
    private long run;
    private int main, mainStatus;
    private bool mainGone, ending, stuckSaid;
    private int lockFile = -1;
    private byte* group;
    private long peakKib, cpuMicroseconds;

    public int Keep()
    {
        _ = umask(0x17); // 0027: output files may be read by the sentry's group
        _ = prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0);
        var set = stackalloc byte[128];
        _ = sigemptyset(set);
        _ = sigaddset(set, SIGCHLD); // blocked since before our own exec, by whoever started us
        fds[Children] = signalfd(-1, set, O_CLOEXEC | O_NONBLOCK);
        _ = fcntl(fds[Server], F_SETFD, FD_CLOEXEC);

        var watch = stackalloc PollFd[Watched];
        while (phase != Phase.Idle || fds[Server] >= 0)
        {
            var held = pump.Stuck != 0;
            for (var i = 0; i < Watched; i++)
                watch[i] = new PollFd { Fd = held && i is Output or Error && pump.Stuck != 0 ? -1 : fds[i], Events = POLLIN };
            if (poll(watch, Watched, held ? 1000 : -1) < 0) continue;

            if (held) _ = pump.Retry();
            for (var i = 0; i < Watched; i++)
                if (watch[i].Revents != 0 && watch[i].Fd == fds[i]) Handle(i);
            SayStuck();
        }

        Forget();
        return 0;
    }

    private void Handle(int which)
    {
        switch (which)
        {
            case Server: Receive(); break;
            case Listener: Accept(); break;
            case Children: Reap(); break;
            case Status: CheckLaunch(); break;
            default:
                if (!pump.Carry(fds[which])) Close(which);
                break;
        }
    }

    // Orders

    private void Accept()
    {
        var next = accept4(fds[Listener], null, null, O_CLOEXEC);
        if (next < 0) return;
        Close(Server); // the newest server is the one that counts
        inboxLength = 0;
        fds[Server] = next;
        Say(News(KeeperWord.Hello).With("keeper", getpid()).With("pid", main).With("status", mainStatus).With("phase", phase switch
        {
            Phase.Launching => "launching",
            Phase.Live => "live",
            Phase.Ending => "ending",
            _ => "idle",
        }));
        stuckSaid = false;
    }

    private void Receive()
    {
        nint got;
        fixed (byte* room = &inbox[inboxLength]) got = read(fds[Server], room, inbox.Length - inboxLength);
        if (got < 0 && Marshal.GetLastSystemError() is EINTR or EAGAIN) return;
        if (got <= 0)
        {
            Close(Server);
            inboxLength = 0;
            return;
        }

        inboxLength += (int)got;
        while (Message.TryReadHead(inbox.AsSpan(0, inboxLength), out var word, out var length))
        {
            var whole = Message.HeadLength + length;
            if (inbox.Length <= whole) Array.Resize(ref inbox, whole + 1024);
            if (inboxLength < whole) return;
            Obey(word, inbox.AsSpan(Message.HeadLength, length));
            if (fds[Server] < 0) return;
            Buffer.BlockCopy(inbox, whole, inbox, 0, inboxLength - whole);
            inboxLength -= whole;
        }

        if (inboxLength == 0 && inbox.Length > 16384) inbox = new byte[1024];
    }

    private void Obey(KeeperWord word, ReadOnlySpan<byte> body)
    {
        switch (word)
        {
            case KeeperWord.Launch when phase == Phase.Idle:
                Launch(body);
                break;
            case KeeperWord.Signal when phase != Phase.Idle:
                var signal = (int)Message.Number(body, "number");
                if (Message.Text(body, "to") == "tree") Tree.Signal(signal);
                else if (!mainGone) _ = kill(main, signal);
                break;
            case KeeperWord.EndTree when phase != Phase.Idle:
                ending = true;
                EndAll();
                break;
            case KeeperWord.Leave when phase == Phase.Idle:
                Close(Server);
                break;
        }
    }

    // A launch

    private void Launch(ReadOnlySpan<byte> body)
    {
        run = Message.Number(body, LaunchField.Run);
        mainGone = ending = stuckSaid = false;
        main = mainStatus = 0;
        peakKib = cpuMicroseconds = 0;
        fixed (byte* order = body)
        {
            byte* output = null, place = null;
            group = null;
            long uid = -1;
            foreach (var field in new Fields(body))
            {
                if (field.Is(LaunchField.Place)) place = order + field.Offset;
                else if (field.Is(LaunchField.Output)) output = order + field.Offset;
                else if (field.Is(LaunchField.ControlGroup)) group = Keep(field.Value);
                else if (field.Is(LaunchField.UserId)) uid = Message.Number(body, LaunchField.UserId, -1);
            }

            if (!Lock(place))
            {
                NeverLaunched(LaunchStep.Lock, Marshal.GetLastSystemError());
                Close(Server);
                return;
            }

            var spec = Memory(order, body.Length);
            if (output is null || spec < 0) NeverLaunched(LaunchStep.Order, Marshal.GetLastSystemError());
            else if (!pump.Open(output)) NeverLaunched(LaunchStep.Output, Marshal.GetLastSystemError());
            else Clone(spec, uid);
            if (spec >= 0) _ = close(spec);
        }
    }

    private void Clone(int spec, long uid)
    {
        int* output = stackalloc int[2], error = stackalloc int[2], status = stackalloc int[2];
        // Ends for the child are made without close-on-exec: this process executes nothing else.
        if (pipe2(output, 0) < 0 || pipe2(error, 0) < 0 || pipe2(status, 0) < 0)
        {
            NeverLaunched(LaunchStep.Streams, Marshal.GetLastSystemError());
            return;
        }

        int input;
        fixed (byte* nothing = "/dev/null"u8) input = open(nothing, O_RDONLY, 0);
        foreach (var ours in (ReadOnlySpan<int>)[output[0], error[0], status[0]])
        {
            _ = fcntl(ours, F_SETFD, FD_CLOEXEC);
            _ = fcntl(ours, F_SETFL, O_NONBLOCK);
        }

        if (uid >= 0)
        {
            // So that the account may open /dev/stdout and /dev/stderr anew.
            _ = fchown(output[1], (uint)uid, uint.MaxValue);
            _ = fchown(error[1], (uint)uid, uint.MaxValue);
        }

        var groupFd = group is null ? -1 : Tree.OpenGroup(group);
        var clone = new CloneArgs { ExitSignal = SIGCHLD };
        if (groupFd >= 0)
        {
            clone.Flags = CLONE_INTO_CGROUP;
            clone.Cgroup = (ulong)groupFd;
        }

        // Everything the child needs is laid out before the clone: between it and execve nothing may be allocated.
        var text = stackalloc byte[6 * 16];
        var argv = stackalloc byte*[8];
        var environment = stackalloc byte*[1];
        fixed (byte* self = "/proc/self/exe"u8, name = "calm-keeper"u8, mode = "enter"u8)
        {
            argv[0] = name;
            argv[1] = mode;
            ReadOnlySpan<int> handed = [spec, status[1], input, output[1], error[1]];
            for (var i = 0; i < handed.Length; i++)
            {
                argv[i + 2] = text + (i * 16);
                System.Buffers.Text.Utf8Formatter.TryFormat(handed[i], new Span<byte>(argv[i + 2], 15), out _);
            }

            var child = (int)syscall(SYS_clone3, (nint)(&clone), sizeof(CloneArgs), 0);
            if (child == 0)
            {
                _ = execve(self, argv, environment);
                _exit(127);
            }

            main = child;
        }

        var errno = Marshal.GetLastSystemError();
        _ = close(input);
        _ = close(output[1]);
        _ = close(error[1]);
        _ = close(status[1]);
        if (groupFd >= 0) _ = close(groupFd);
        fds[Output] = output[0];
        fds[Error] = error[0];
        fds[Status] = status[0];
        if (main < 0)
        {
            NeverLaunched(LaunchStep.Clone, errno);
            return;
        }

        phase = Phase.Launching;
        Records.Write("run", News(KeeperWord.Launched).With("pid", main).ToBytes().Span);
        if (fds[Listener] < 0) fds[Listener] = Records.Listen();
    }

    private void CheckLaunch()
    {
        if (fds[Status] < 0) return;
        var report = stackalloc int[2];
        var got = read(fds[Status], (byte*)report, 8);
        if (got < 0) return;
        Close(Status);
        if (got == 8)
        {
            int ignored;
            _ = wait4(main, &ignored, 0, null);
            NeverLaunched((LaunchStep)report[0], report[1]);
        }
        else
        {
            phase = Phase.Live;
            Say(News(KeeperWord.Launched).With("pid", main));
        }
    }

    private void NeverLaunched(LaunchStep step, int errno)
    {
        phase = Phase.Idle;
        for (var i = Output; i <= Status; i++) Close(i);
        pump.Close();
        if (group is not null) _ = rmdir(group);
        End(News(KeeperWord.NeverLaunched).With("step", (int)step).With("errno", errno));
    }

    // Ends

    private void Reap()
    {
        var drop = stackalloc byte[128 * 8];
        while (read(fds[Children], drop, 128 * 8) > 0) { }
        CheckLaunch();
        var wasGone = mainGone;
        int ended, status;
        ResourceUsage usage;
        while ((ended = wait4(-1, &status, WNOHANG, &usage)) > 0)
        {
            peakKib = Math.Max(peakKib, usage.MaxResidentKib);
            cpuMicroseconds += ((usage.User.Seconds + usage.System.Seconds) * 1_000_000) + usage.User.Microseconds + usage.System.Microseconds;
            if (ended != main) continue;
            mainGone = true;
            mainStatus = status;
        }

        if (phase is Phase.Idle) return;
        var empty = ended < 0;
        if (mainGone && empty)
        {
            Finish();
            return;
        }

        if (mainGone && !wasGone)
        {
            phase = Phase.Ending;
            var news = News(KeeperWord.MainEnded).With("status", mainStatus).With("ended-ms", Now());
            Records.Write(Records.OutcomeOf(run), news.ToBytes().Span);
            Say(news);
        }

        if (ending) EndAll();
    }

    private void EndAll()
    {
        if (group is not null) Tree.EndGroup(group);
        Tree.Signal(SIGKILL);
    }

    private void Finish()
    {
        phase = Phase.Idle;
        var unwritten = pump.Drain(fds[Output]) + pump.Drain(fds[Error]);
        for (var i = Output; i <= Status; i++) Close(i);
        pump.Close();
        if (group is not null) _ = rmdir(group);
        End(News(KeeperWord.TreeEnded).With("status", mainStatus).With("ended-ms", Now())
            .With("peak-kib", peakKib).With("cpu-us", cpuMicroseconds).With("unwritten", unwritten));
    }

    /// <summary>First on record, then told: a server that dies between the two still finds it.</summary>
    private void End(Message news)
    {
        if (lockFile >= 0) Records.Write(Records.OutcomeOf(run), news.ToBytes().Span);
        Say(news);
    }

    private void Forget()
    {
        if (lockFile < 0) return; // another keeper has the service: what lies here is its own
        Records.Remove("socket");
        Records.Remove("run");
    }

    // Words

    private Message News(KeeperWord word) => new Message(word).With("run", run);

    private void SayStuck()
    {
        if (pump.Stuck != 0 == stuckSaid) return;
        stuckSaid = !stuckSaid;
        Say(News(stuckSaid ? KeeperWord.OutputStuck : KeeperWord.OutputFlows).With("errno", pump.Stuck));
    }

    private void Say(Message message)
    {
        if (fds[Server] < 0) return;
        var bytes = message.ToBytes().Span;
        fixed (byte* pointer = bytes)
            if (send(fds[Server], pointer, bytes.Length, MSG_NOSIGNAL) != bytes.Length) Close(Server);
    }

    /// <summary>Binds this keeper to a service, by a lock the kernel holds for as long as it lives: one keeper a service.</summary>
    private bool Lock(byte* place)
    {
        if (lockFile >= 0) return true;
        if (place is null || chdir(place) < 0) return false;
        fixed (byte* name = "lock"u8) lockFile = open(name, O_RDWR | O_CREAT | O_CLOEXEC, 0x180);
        if (lockFile >= 0 && flock(lockFile, LOCK_EX | LOCK_NB) == 0) return true;
        var errno = Marshal.GetLastSystemError();
        if (lockFile >= 0) _ = close(lockFile);
        lockFile = -1;
        Marshal.SetLastSystemError(errno);
        return false;
    }

    private void Close(int which)
    {
        if (fds[which] >= 0) _ = close(fds[which]);
        fds[which] = -1;
    }

    private static int Memory(byte* content, int length)
    {
        int memory;
        fixed (byte* name = "order"u8) memory = memfd_create(name, 0);
        for (nint put = 0; memory >= 0 && put < length;)
        {
            var more = write(memory, content + put, length - put);
            if (more <= 0) return -1;
            put += more;
        }

        return memory;
    }

    private byte* keptGroup;

    private byte* Keep(ReadOnlySpan<byte> path)
    {
        NativeMemory.Free(keptGroup);
        keptGroup = (byte*)NativeMemory.AllocZeroed((nuint)path.Length + 1);
        path.CopyTo(new Span<byte>(keptGroup, path.Length));
        return keptGroup;
    }

    private static long Now() => DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();
}
