using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Files;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The first half of a launch: everything laid out, then one clone into the run's group, which goes on by itself.
/// <see cref="Enter"/> is the second.
/// </summary>
internal sealed unsafe partial class Guard
{
    private void Launch(ReadOnlySpan<byte> body)
    {
        run = Message.Number(body, LaunchField.Run);
        mainGone = ending = stuckSaid = executes = false;
        main = mainStatus = 0;
        peakKib = cpuMicroseconds = pausedAt = pausedSaid = 0;
        (reopen, atTerminal, terminalSize) = (0, false, null);
        group = outOfMemory = null;
        fixed (byte* order = body)
        {
            var asked = Read(body, order);
            if (asked.Place is not null)
                _ = Keep(ref keptPlace, MemoryMarshal.CreateReadOnlySpanFromNullTerminated(asked.Place));
            if (!Lock(asked.Place))
            {
                NeverLaunched(LaunchStep.Lock, Marshal.GetLastSystemError());
                Close(Server);
                return;
            }

            sink.Most = asked.Most;
            oomBefore = Tree.OutOfMemory(outOfMemory);
            if (asked.Output is null)
                NeverLaunched(LaunchStep.Order, errno: 0);
            else if (
                !sink.Open(Text(asked.Output), asked.TurnAt, asked.Stamped, asked.Start)
                || (asked.ErrorOutput is not null && !errorSink.Open(Text(asked.ErrorOutput), 0, false, AtStart.Append))
            )
                NeverLaunched(LaunchStep.Output, Marshal.GetLastSystemError());
            else
            {
                output.Begin(sink, atTerminal ? OutputSource.Terminal : OutputSource.Output, asked.Hidden, viewers);
                error.Begin(asked.ErrorOutput is null ? sink : errorSink, OutputSource.Error, asked.Hidden);
                BoundOutput(body);
                foreach (var one in asked.Followed)
                    Follow(one, asked.TurnAt, new(asked.Uid, asked.Gid, [.. asked.Groups]), asked.Hidden);
                var child = Enter.Order.Of(order, body.Length);
                Clone(child, asked.KeepInput);
                child.Dispose();
                Name(body);
            }
        }
    }

    /// <summary>Whoever looks at the processes of the host sees whose run is kept here; once the program is on its way.</summary>
    private void Name(ReadOnlySpan<byte> body)
    {
        foreach (var field in new Fields(body))
            if (
                field.Is(LaunchField.Environment)
                && field.Value.StartsWith(ServiceVariable)
                && !field.Value[ServiceVariable.Length..].SequenceEqual(named)
            )
            {
                named = field.Value[ServiceVariable.Length..].ToArray();
                Title.OfKeeper(runDirectory, System.Text.Encoding.UTF8.GetString(named));
            }
    }

    private static ReadOnlySpan<byte> ServiceVariable => "CALM_SERVICE="u8;

    private byte[] named = [];

    /// <summary>Of a terminal for people; null: there is none.</summary>
    private TerminalSize? terminalSize;

    /// <summary>What this half of a launch needs of the order; its paths lie in the order itself.</summary>
    private struct Asked()
    {
        public byte* Output,
            ErrorOutput,
            Place;
        public byte[][] Hidden = [];
        public long Uid = -1,
            Gid = -1,
            TurnAt,
            Most;
        public bool KeepInput,
            Stamped;
        public AtStart Start = AtStart.Append;
        public List<string> Followed = [];
        public List<uint> Groups = [];
    }

    private Asked Read(ReadOnlySpan<byte> body, byte* order)
    {
        var asked = new Asked();
        foreach (var field in new Fields(body))
        {
            if (field.Is(LaunchField.Place))
                asked.Place = order + field.Offset;
            else if (field.Is(LaunchField.Output))
                asked.Output = order + field.Offset;
            else if (field.Is(LaunchField.ErrorOutput))
                asked.ErrorOutput = order + field.Offset;
            else if (field.Is(LaunchField.ControlGroup))
                group = Keep(ref keptGroup, field.Value);
            else if (field.Is(LaunchField.OutOfMemory))
                outOfMemory = Keep(ref keptOutOfMemory, field.Value);
            else if (field.Is(LaunchField.Hide))
                asked.Hidden = [.. asked.Hidden, field.Value.ToArray()];
            else if (field.Is(LaunchField.KeepInput))
                asked.KeepInput = true;
            else if (field.Is(LaunchField.Terminal))
                (atTerminal, terminalSize) = (
                    true,
                    TerminalSize.Parse(System.Text.Encoding.ASCII.GetString(field.Value))
                );
            else if (field.Is(LaunchField.TurnAt))
                asked.TurnAt = Message.Number(body, LaunchField.TurnAt);
            else if (field.Is(LaunchField.Stamp))
                asked.Stamped = true;
            else if (field.Is(LaunchField.Most))
                asked.Most = Message.Number(body, LaunchField.Most);
            else if (field.Is(LaunchField.AtStart))
                asked.Start = field.Value.SequenceEqual("fresh"u8) ? AtStart.Fresh : AtStart.TurnOver;
            else if (field.Is(LaunchField.File))
                asked.Followed.Add(Text(order + field.Offset));
            else if (field.Is(LaunchField.Reopen))
                reopen = (int)Message.Number(body, LaunchField.Reopen);
            else if (field.Is(LaunchField.GroupId))
                asked.Gid = Message.Number(body, LaunchField.GroupId, -1);
            else if (
                field.Is(LaunchField.Supplementary)
                && System.Buffers.Text.Utf8Parser.TryParse(field.Value, out uint member, out _)
            )
                asked.Groups.Add(member);
            else if (field.Is(LaunchField.UserId))
                asked.Uid = Message.Number(body, LaunchField.UserId, -1);
        }

        return asked;
    }

    private void Follow(string file, long turnAt, Reader reader, byte[][] hidden)
    {
        var parts = file.IndexOf('\n', StringComparison.Ordinal);
        var one = new FollowedFile(file[(parts + 1)..], file[..parts], reader, hidden, reopen);
        if (one.Begin(turnAt))
        {
            _ = one.Look(Forward(), all: false); // from here on, not from when it has printed something
            files.Add(one);
        }
        else
            one.Close();
    }

    private static string Text(byte* path) =>
        System.Text.Encoding.UTF8.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(path));

    /// <summary>The ends of the streams: the program's, and ours.</summary>
    private struct Streams
    {
        public int TheirInput,
            TheirOutput,
            TheirError,
            OurInput,
            OurOutput,
            OurError;
    }

    /// <summary>Ends for the child are made without close-on-exec: this process executes nothing else.</summary>
    private bool OpenStreams(bool keepInput, out Streams streams)
    {
        streams = new Streams { OurInput = -1, OurError = -1 };
        if (atTerminal)
        {
            if (!Terminal.Open(terminalSize, out var master, out var slave))
                return false;
            if (terminalSize is { } size)
                viewers.Open(master, size);
            streams = new Streams
            {
                TheirInput = slave,
                TheirOutput = slave,
                TheirError = slave,
                OurInput = master,
                OurOutput = master,
                OurError = -1,
            };
            return true;
        }

        int* ends = stackalloc int[6];
        if (pipe2(ends, 0) < 0 || pipe2(ends + 2, 0) < 0 || (keepInput && pipe2(ends + 4, 0) < 0))
            return false;
        (streams.OurOutput, streams.TheirOutput, streams.OurError, streams.TheirError) = (
            ends[0],
            ends[1],
            ends[2],
            ends[3]
        );
        if (keepInput)
            (streams.TheirInput, streams.OurInput) = (ends[4], ends[5]);
        else
            fixed (byte* nothing = "/dev/null"u8)
                streams.TheirInput = open(nothing, O_RDONLY, 0);
        return true;
    }

    private void Clone(in Enter.Order order, bool keepInput)
    {
        var status = stackalloc int[2];
        if (!OpenStreams(keepInput, out var streams) || pipe2(status, 0) < 0)
        {
            NeverLaunched(atTerminal ? LaunchStep.Terminal : LaunchStep.Streams, Marshal.GetLastSystemError());
            return;
        }

        foreach (var ours in (ReadOnlySpan<int>)[streams.OurInput, streams.OurOutput, streams.OurError, status[0]])
        {
            if (ours < 0)
                continue;
            _ = fcntl(ours, F_SETFD, FD_CLOEXEC);
            _ = fcntl(ours, F_SETFL, O_NONBLOCK);
        }

        if (order.Uid >= 0)
        {
            // So that the account may open /dev/stdout and /dev/stderr anew.
            _ = fchown(streams.TheirOutput, (uint)order.Uid, uint.MaxValue);
            if (!atTerminal)
                _ = fchown(streams.TheirError, (uint)order.Uid, uint.MaxValue);
        }

        var groupFd = group is null ? -1 : Tree.OpenGroup(group);
        main = Child(order, streams, status[1], groupFd);
        var errno = Marshal.GetLastSystemError();
        _ = close(streams.TheirOutput);
        if (!atTerminal)
        {
            _ = close(streams.TheirInput);
            _ = close(streams.TheirError);
        }

        _ = close(status[1]);
        if (groupFd >= 0)
            _ = close(groupFd);
        input = streams.OurInput;
        fds[Output] = streams.OurOutput;
        fds[Error] = streams.OurError;
        fds[Status] = status[0];
        if (main < 0)
        {
            NeverLaunched(LaunchStep.Clone, errno);
            return;
        }

        phase = Phase.Launching;
        Records.Write("run", News(KeeperWord.Launched).With("pid", main).ToBytes().Span);
        if (fds[Listener] < 0)
            fds[Listener] = Records.Listen();
    }

    /// <summary>One clone, which goes on as the second half of the launch.</summary>
    /// <returns>Its number, or -1 with errno set.</returns>
    private static int Child(in Enter.Order order, in Streams streams, int status, int groupFd)
    {
        var clone = new CloneArgs { ExitSignal = SIGCHLD };
        if (groupFd >= 0)
        {
            clone.Flags = CLONE_INTO_CGROUP;
            clone.Cgroup = (ulong)groupFd;
        }

        // No signal finds a handler of the runtime in the child: it has its own mask and usual dispositions before it gets any.
        var all = stackalloc byte[128];
        var before = stackalloc byte[128];
        new Span<byte>(all, 128).Fill(0xFF);
        _ = sigprocmask(SIG_SETMASK, all, before);
        var child = Copy(clone);
        if (child < 0 && clone.Flags != 0)
        {
            // A group that takes no processes is no reason not to launch: the tree is known by descent, too.
            clone.Flags = 0;
            child = Copy(clone);
        }

        if (child == 0)
            Enter.Become(order, status, streams.TheirInput, streams.TheirOutput, streams.TheirError);
        var errno = Marshal.GetLastSystemError();
        _ = sigprocmask(SIG_SETMASK, before, null);
        Marshal.SetLastSystemError(errno);
        return child;
    }

    private void CheckLaunch()
    {
        if (fds[Status] < 0)
            return;
        var report = stackalloc int[2];
        nint got;
        while ((got = read(fds[Status], (byte*)report, 8)) == 8 && report[0] == (int)LaunchStep.None)
            executes = true;
        if (got < 0)
            return;
        Close(Status);
        if (got != 8 && executes)
        {
            phase = Phase.Live;
            Say(News(KeeperWord.Launched).With("pid", main));
            return;
        }

        // Whoever reported has ended by itself; one that died without a word tells its status.
        int status;
        _ = wait4(main, &status, 0, null);
        if (got == 8)
            NeverLaunched((LaunchStep)report[0], report[1]);
        else
            NeverLaunched(LaunchStep.Enter, status);
    }

    private void NeverLaunched(LaunchStep step, int errno)
    {
        phase = Phase.Idle;
        CloseStreams();
        if (group is not null)
            _ = rmdir(group);
        End(News(KeeperWord.NeverLaunched).With("step", (int)step).With("errno", errno));
    }

    /// <summary>
    /// Binds this keeper to a service, by a lock the kernel holds for as long as it lives: one keeper a service.
    /// </summary>
    private bool Lock(byte* place)
    {
        if (lockFile >= 0)
            return true;
        if (place is null || chdir(place) < 0)
            return false;
        fixed (byte* name = "lock"u8)
            lockFile = open(name, O_RDWR | O_CREAT | O_CLOEXEC, 0x180);
        if (lockFile >= 0 && flock(lockFile, LOCK_EX | LOCK_NB) == 0)
            return true;
        var errno = Marshal.GetLastSystemError();
        if (lockFile >= 0)
            _ = close(lockFile);
        lockFile = -1;
        Marshal.SetLastSystemError(errno);
        return false;
    }

    /// <summary>
    /// Its place was wiped while it ran, and a server looks for it: what it had there is made again, unless another keeper
    /// has the service meanwhile.
    /// </summary>
    private void MakePlaceAgain()
    {
        if (keptPlace is null || lockFile < 0)
            return;
        var place = Marshal.PtrToStringUTF8((nint)keptPlace)!;
        // It may be that no more than the socket is missing: then the lock that lies there is ours.
        if (
            FileFacts.Of(lockFile)?.Id is not { } held
            || FileFacts.Of($"{place}/lock", followsLinks: false)?.Id != held
        )
        {
            var before = lockFile;
            lockFile = -1;
            _ = mkdir(keptPlace, 0x1C0); // 0700
            var mine = Lock(keptPlace);
            _ = close(before);
            if (!mine)
                return; // what lies there is another's: nothing is written there any more
        }

        if (phase != Phase.Idle)
            Records.Write("run", News(KeeperWord.Launched).With("pid", main).ToBytes().Span);
        Close(Listener);
        fds[Listener] = Records.Listen();
        viewers.ListenAgain();
    }

    private byte* keptPlace,
        keptGroup,
        keptOutOfMemory;

    private static byte* Keep(ref byte* kept, ReadOnlySpan<byte> path)
    {
        NativeMemory.Free(kept);
        kept = (byte*)NativeMemory.AllocZeroed((nuint)path.Length + 1);
        path.CopyTo(new Span<byte>(kept, path.Length));
        return kept;
    }
}
