using System.Diagnostics;
using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Processes;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The keeper's one loop: orders from the server, ends of processes, output, the launch's status pipe. It holds no
/// policy:
/// it does what it is told and says what it saw. Without a server it keeps the run going, and leaves once that has
/// ended.
/// </summary>
internal sealed unsafe partial class Guard(string runDirectory)
{
    private enum Phase
    {
        Idle,
        Launching,
        Live,
        Ending,
    }

    private const int Server = 0,
        Listener = 1,
        Children = 2,
        Output = 3,
        Error = 4,
        Status = 5,
        Watched = 6;

    private readonly int[] fds = [3, -1, -1, -1, -1, -1];
    private readonly Pump output = new(),
        error = new();
    private readonly Sink sink = new(),
        errorSink = new();
    private readonly Viewers viewers = new();
    private readonly List<FollowedFile> files = [];
    private long filesLookedAt;
    private bool moreInFiles;
    private int reopen;
    private byte[] inbox = new byte[1024];
    private int inboxLength;
    private Phase phase;
    private long run;
    private int main,
        mainStatus;
    private bool mainGone,
        ending,
        executes,
        stuckSaid;
    private int lockFile = -1,
        input = -1;
    private bool atTerminal;
    private byte* group,
        outOfMemory;
    private long peakKib,
        cpuMicroseconds,
        oomBefore;

    public int Keep()
    {
        _ = umask(0x17); // 0027: output files may be read by the sentry's group
        _ = prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0);
        var set = stackalloc byte[128];
        _ = sigemptyset(set);
        _ = sigaddset(set, SIGCHLD); // blocked since before our own exec, by whoever started us
        _ = sigaddset(set, SIGURG);
        fds[Children] = signalfd(-1, set, O_CLOEXEC | O_NONBLOCK);
        _ = fcntl(fds[Server], F_SETFD, FD_CLOEXEC);
        SayHello();

        var watch = stackalloc PollFd[Watched + Viewers.MostWatched];
        while (phase != Phase.Idle || fds[Server] >= 0 || owed is not null)
        {
            for (var i = 0; i < Watched; i++)
                watch[i] = new PollFd
                {
                    Fd = (i == Output && output.Stuck != 0) || (i == Error && error.Stuck != 0) ? -1 : fds[i],
                    Events = POLLIN,
                };
            var seen = viewers.Watch(watch + Watched);
            if (poll(watch, (nuint)(Watched + seen), Patience) < 0)
                continue;

            if (output.Stuck != 0)
                _ = output.Retry();
            if (error.Stuck != 0)
                _ = error.Retry();
            for (var i = 0; i < Watched; i++)
                if (watch[i].Revents != 0 && watch[i].Fd == fds[i] && (i != Listener || watch[Server].Revents == 0))
                    Handle(i); // who comes next waits until what the one before said is read
            viewers.Handle(watch + Watched, seen);
            foreach (var pump in (ReadOnlySpan<Pump>)[output, error])
                if (pump.Owes)
                    pump.SayMissing(Environment.TickCount64, atLast: false);
            SayStuck();
            SayPaused();
            if (owed is not null)
                PutOwed();
            LookAtFiles(all: false);
            LookForServer();
            var turned = sink.TurnedOver;
            sink.TurnedOver = false;
            foreach (var one in files)
            {
                turned |= one.TurnedOver;
                one.TurnedOver = false;
            }

            if (turned)
                Say(News(KeeperWord.TurnedOver));
        }

        Forget();
        return 0;
    }

    private void Handle(int which)
    {
        switch (which)
        {
            case Server:
                Receive();
                break;
            case Listener:
                Accept();
                break;
            case Children:
                Reap();
                break;
            case Status:
                CheckLaunch();
                break;
            default:
                if (!(which == Output ? output : error).Carry(fds[which]))
                {
                    if (which == Output)
                        viewers.TerminalGone();
                    Close(which);
                }

                break;
        }
    }

    private void BoundOutput(ReadOnlySpan<byte> body)
    {
        var (thin, goOn) = ((int)Message.Number(body, LaunchField.Thin), Message.Number(body, LaunchField.GoOn) == 1);
        output.Bound(thin, goOn);
        error.Bound(thin, goOn);
    }

    // Log files of the program's own

    private const int FilesBeat = 500,
        BusyFilesBeat = 5; // ms

    private long aloneLookAt;

    /// <summary>A keeper without a server for long looks whether anybody is going to begin one.</summary>
    private void LookForServer()
    {
        var now = Forward();
        if (fds[Server] >= 0 || phase == Phase.Idle)
            aloneLookAt = 0;
        else if (aloneLookAt == 0)
            aloneLookAt = now + LastResort.Beat;
        else if (now >= aloneLookAt)
        {
            aloneLookAt = now + LastResort.Beat;
            LastResort.Look(Marshal.PtrToStringUTF8((nint)keptPlace));
        }
    }

    private int Patience =>
        files.Count > 0 && phase != Phase.Idle ? (moreInFiles ? BusyFilesBeat : FilesBeat)
        : PauseToSay ? PauseBeat
        : Stuck != 0 || stuckSaid || owed is not null || output.Owes || error.Owes ? 1000
        : fds[Server] < 0 ? LastResort.Beat
        : -1;

    private void LookAtFiles(bool all)
    {
        var now = Forward();
        if (files.Count == 0 || (!all && now - filesLookedAt < (moreInFiles ? BusyFilesBeat : FilesBeat)))
            return;
        filesLookedAt = now;
        moreInFiles = false;
        foreach (var one in files)
        {
            moreInFiles |= one.Look(now, all);
            if (!one.Reopens || (reopen == LaunchField.ReopenIsAsked && fds[Server] < 0))
                continue;
            one.Reopens = false;
            if (reopen == LaunchField.ReopenIsAsked)
                Say(News(KeeperWord.Reopen));
            else if (!mainGone)
                _ = kill(main, reopen);
        }
    }

    private void CloseFiles()
    {
        foreach (var one in files)
            one.Close();
        files.Clear();
    }

    // Orders

    private void Accept()
    {
        var next = accept4(fds[Listener], null, null, O_CLOEXEC);
        if (next < 0)
            return;
        Close(Server); // the newest server is the one that counts
        inboxLength = 0;
        fds[Server] = next;
        SayHello();
        if (owed is { } news)
            Say(news);
        owed = null;
        stuckSaid = false;
        pausedSaid = 0;
        foreach (var one in files)
            one.Reopens |= one.IsAside;
    }

    private void SayHello() =>
        Say(
            News(KeeperWord.Hello)
                .With("keeper", getpid())
                .With("version", KeeperVersion.Latest)
                .With("pid", main)
                .With("status", mainStatus)
                .With("phase", PhaseInWords)
        );

    private string PhaseInWords =>
        phase switch
        {
            Phase.Launching => "launching",
            Phase.Live => "live",
            Phase.Ending => "ending",
            _ when owed is not null => "ending", // its end is told next
            _ => "idle",
        };

    private void Receive()
    {
        nint got;
        fixed (byte* room = &inbox[inboxLength])
            got = read(fds[Server], room, inbox.Length - inboxLength);
        if (got < 0 && Marshal.GetLastSystemError() is EINTR or EAGAIN)
            return;
        if (got <= 0)
        {
            Close(Server);
            inboxLength = 0;
            return;
        }

        inboxLength += (int)got;
        if (inboxLength >= Message.HeadLength && BitConverter.ToInt32(inbox, 0) is < 0 or > Message.LongestBody)
        {
            Close(Server); // no server of ours speaks like that
            inboxLength = 0;
            return;
        }

        while (Message.TryReadHead(inbox.AsSpan(0, inboxLength), out var word, out var length))
        {
            var whole = Message.HeadLength + length;
            if (inbox.Length <= whole)
                Array.Resize(ref inbox, whole + 1024);
            if (inboxLength < whole)
                return;
            Obey(word, inbox.AsSpan(Message.HeadLength, length));
            if (fds[Server] < 0)
                return;
            Buffer.BlockCopy(inbox, whole, inbox, 0, inboxLength - whole);
            inboxLength -= whole;
        }

        if (inboxLength == 0 && inbox.Length > 16384)
            inbox = new byte[1024];
    }

    private void Obey(KeeperWord word, ReadOnlySpan<byte> body)
    {
        switch (word)
        {
            case KeeperWord.Launch when phase == Phase.Idle && IsHungUp(fds[Server]):
                LeaveUndone(body);
                break;
            case KeeperWord.Launch when phase == Phase.Idle:
                Launch(body);
                break;
            case KeeperWord.Signal when phase != Phase.Idle:
                var signal = (int)Message.Number(body, "number");
                if (Message.Text(body, "to") == "tree" || mainGone)
                    Tree.Signal(signal);
                else
                    _ = kill(main, signal);
                break;
            case KeeperWord.EndTree when phase != Phase.Idle:
                ending = true;
                EndAll();
                break;
            case KeeperWord.Follow when phase == Phase.Ending:
                Follow((int)Message.Number(body, "pid"));
                break;
            case KeeperWord.Input when phase != Phase.Idle:
                Type(TextOf(body));
                break;
            case KeeperWord.CloseInput when phase != Phase.Idle:
                if (atTerminal)
                    Type("\u0004"u8);
                else
                    CloseInput(answer: true);
                break;
            case KeeperWord.Leave when phase == Phase.Idle:
                Close(Server);
                break;
            case KeeperWord.Output when phase != Phase.Idle:
                sink.Set(Message.Number(body, LaunchField.TurnAt), Message.Number(body, LaunchField.Stamp) == 1);
                BoundOutput(body);
                if (Message.Text(body, "now") is not null)
                    sink.TurnNow();
                break;
            case KeeperWord.Ask:
                Say(News(KeeperWord.Here).With("phase", PhaseInWords));
                break;
            default:
                Say(News(KeeperWord.Refused).With("order", (int)word).With("phase", PhaseInWords));
                break;
        }
    }

    /// <summary>
    /// An order may have waited while this keeper was stopped. Whoever gave it is gone then; the server that followed may not
    /// have found this keeper, and begun the run with another, or may not want it any more. So it is not carried out, that is
    /// written down, and nobody is kept from finding out by a keeper that is still there.
    /// </summary>
    private void LeaveUndone(ReadOnlySpan<byte> body)
    {
        run = Message.Number(body, LaunchField.Run);
        if (lockFile < 0)
            foreach (var field in new Fields(body))
                if (field.Is(LaunchField.Place))
                    fixed (byte* place = field.Value) // closed by NUL within the order
                        _ = Lock(place);
        End(News(KeeperWord.NeverLaunched).With("step", (int)LaunchStep.Alone));
        Forget();
        if (lockFile >= 0)
            _ = close(lockFile);
        lockFile = -1;
        Close(Listener);
        Close(Server);
    }

    /// <summary>The other side of a line has closed it (poll(2)).</summary>
    private static bool IsHungUp(int line)
    {
        var seen = new PollFd { Fd = line, Events = POLLRDHUP };
        return poll(&seen, 1, 0) > 0 && (seen.Revents & (POLLHUP | POLLRDHUP)) != 0;
    }

    // Input

    /// <summary>Never waits: what a program does not read for itself cannot be forced on it.</summary>
    private void Type(ReadOnlySpan<byte> text)
    {
        var errno = EBADF;
        if (input >= 0)
        {
            fixed (byte* pointer = text)
                errno = write(input, pointer, text.Length) == text.Length ? 0 : Marshal.GetLastSystemError();
        }

        Say(News(KeeperWord.InputTaken).With("errno", errno));
    }

    private static ReadOnlySpan<byte> TextOf(ReadOnlySpan<byte> body)
    {
        foreach (var field in new Fields(body))
            if (field.Is("text"))
                return field.Value;
        return [];
    }

    private void CloseInput(bool answer)
    {
        var errno = input >= 0 ? 0 : EBADF;
        if (input >= 0 && !atTerminal)
            _ = close(input); // a terminal's is closed with its output
        input = -1;
        if (answer)
            Say(News(KeeperWord.InputTaken).With("errno", errno));
    }

    // Ends

    private void Reap()
    {
        const int one = 128; // bytes of a signalfd_siginfo, which begins with the signal's number (signalfd(2))
        var told = stackalloc byte[one];
        while (read(fds[Children], told, one) == one)
            if (*(int*)told == SIGURG)
                MakePlaceAgain();
        CheckLaunch();
        var wasGone = mainGone;
        int ended,
            status;
        ResourceUsage usage;
        while ((ended = wait4(-1, &status, WNOHANG | WUNTRACED | WCONTINUED, &usage)) > 0)
        {
            if (new WaitStatus(status) is { IsPaused: true } or { GoesOn: true })
            {
                if (ended == main)
                    pausedAt = new WaitStatus(status).IsPaused ? Forward() : 0;
                continue;
            }

            peakKib = Math.Max(peakKib, usage.MaxResidentKib);
            cpuMicroseconds +=
                ((usage.User.Seconds + usage.System.Seconds) * 1_000_000)
                + usage.User.Microseconds
                + usage.System.Microseconds;
            if (ended != main)
                continue;
            mainGone = true;
            mainStatus = status;
            pausedAt = 0;
        }

        if (phase is Phase.Idle)
            return;
        var empty = ended < 0;
        if (mainGone && empty)
        {
            Finish();
            return;
        }

        if (mainGone && !wasGone)
        {
            phase = Phase.Ending;
            var news = News(KeeperWord.MainEnded)
                .With("status", mainStatus)
                .With("ended-ms", Now())
                .With("ended-forward-ms", Forward());
            Records.Write(Records.OutcomeOf(run), news.ToBytes().Span);
            Say(news);
        }

        if (ending)
            EndAll();
    }

    /// <summary>
    /// A process left in the background becomes the main one; only a child of ours can, for its end must be seen.
    /// </summary>
    private void Follow(int pid)
    {
        int status;
        ResourceUsage usage;
        if (wait4(pid, &status, WNOHANG, &usage) != 0)
            return; // not ours, or ended meanwhile
        main = pid;
        mainGone = false;
        mainStatus = 0;
        pausedAt = 0;
        phase = Phase.Live;
        Records.Write("run", News(KeeperWord.Followed).With("pid", main).ToBytes().Span);
        Say(News(KeeperWord.Followed).With("pid", main));
    }

    private int Stuck => output.Stuck != 0 ? output.Stuck : error.Stuck;

    private void EndAll()
    {
        if (group is not null)
            Tree.EndGroup(group);
        Tree.Signal(SIGKILL);
    }

    private void Finish()
    {
        phase = Phase.Idle;
        LookAtFiles(all: true);
        var unwritten = output.Drain(fds[Output]) + error.Drain(fds[Error]);
        SayStuck();
        CloseStreams();
        var oom = Tree.OutOfMemory(outOfMemory) - oomBefore;
        if (group is not null)
            _ = rmdir(group);
        End(
            News(KeeperWord.TreeEnded)
                .With("status", mainStatus)
                .With("ended-ms", Now())
                .With("ended-forward-ms", Forward())
                .With("peak-kib", peakKib)
                .With("cpu-us", cpuMicroseconds)
                .With("unwritten", unwritten)
                .With("oom", oom),
            mustStay: true
        );
    }

    /// <summary>
    /// First on record, then told: a server that dies between the two still finds it. What no disk takes, while nobody is there to
    /// be told, stays here until either is so, and this keeper with it.
    /// </summary>
    private void End(Message news, bool mustStay = false)
    {
        var errno = lockFile < 0 ? 0 : Records.Write(Records.OutcomeOf(run), news.ToBytes().Span);
        if (fds[Server] >= 0)
            Say(news);
        else if (mustStay && errno is ENOSPC or EDQUOT or EMFILE or ENFILE or ENOMEM)
            owed = news;
    }

    /// <summary>How the run ended, which could not be written down while nobody was there; null: it could.</summary>
    private Message? owed;

    private void PutOwed()
    {
        if (Records.Write(Records.OutcomeOf(run), owed!.ToBytes().Span) == 0)
            owed = null;
    }

    private void Forget()
    {
        if (lockFile < 0)
            return; // another keeper has the service: what lies here is its own
        Records.Remove("socket");
        Records.Remove("run");
    }

    // Words

    private Message News(KeeperWord word) => new Message(word).With("run", run);

    private void SayStuck()
    {
        if (fds[Server] < 0)
            return; // whoever comes is told then
        var errno =
            Stuck != 0 ? Stuck
            : output.Loses || error.Loses ? ENOSPC
            : 0;
        output.LossTold();
        error.LossTold();
        if (errno != 0 == stuckSaid)
            return;
        stuckSaid = !stuckSaid;
        Say(News(stuckSaid ? KeeperWord.OutputStuck : KeeperWord.OutputFlows).With("errno", errno));
    }

    private const int PauseBeat = 100; // ms

    /// <summary>When a signal stopped the main process, by the clock that only goes forward, and what the server was told of that; 0: it goes on.</summary>
    private long pausedAt,
        pausedSaid;

    private long pauseSaidAt;

    private bool PauseToSay => pausedAt != pausedSaid && phase == Phase.Live && fds[Server] >= 0;

    /// <summary>A program may stop and go on as often as it likes: it is not told each time.</summary>
    private void SayPaused()
    {
        if (!PauseToSay || Forward() - pauseSaidAt < PauseBeat)
            return;
        (pausedSaid, pauseSaidAt) = (pausedAt, Forward());
        Say(pausedAt == 0 ? News(KeeperWord.GoesOn) : News(KeeperWord.Paused).With("forward-ms", pausedAt));
    }

    private void Say(Message message)
    {
        if (fds[Server] < 0)
            return;
        var bytes = message.ToBytes().Span;
        fixed (byte* pointer = bytes)
            if (send(fds[Server], pointer, bytes.Length, MSG_NOSIGNAL) != bytes.Length)
                Close(Server);
    }

    private void CloseStreams()
    {
        CloseInput(answer: false);
        viewers.Close();
        for (var i = Output; i <= Status; i++)
            Close(i);
        output.Close();
        error.Close();
        sink.Close();
        errorSink.Close();
        CloseFiles();
    }

    private void Close(int which)
    {
        if (fds[which] >= 0)
            _ = close(fds[which]);
        fds[which] = -1;
    }

    /// <summary>The clock that only goes forward within a boot (clock_gettime(2), CLOCK_MONOTONIC).</summary>
    private static long Forward() => (long)Stopwatch.GetElapsedTime(0).TotalMilliseconds;

    private static long Now() => DateTimeOffset.UtcNow.ToUnixTimeMilliseconds();
}
