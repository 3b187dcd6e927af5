using CalmSentry.Linux.Processes;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>The second: a process that watches the guard and becomes it. The guard is its parent, and watches it.</summary>
internal static unsafe partial class ServerGuard
{
    /// <summary>Process id of the second, or 0; what it was started with; and when another may be started.</summary>
    private static int second;
    private static byte** secondCommand;
    private static long secondDue;

    /// <summary>Milliseconds until a second that could not be started is tried again.</summary>
    private const int SoonAgain = 200;

    /// <summary>
    /// <c>guard-second GUARD RUN-DIRECTORY SERVER …</c>: waits for the end of the guard, and becomes the guard, unless it is
    /// asked to end itself. It becomes it as it is, without being executed once more: where no thread can be made, a new
    /// runtime would not come up, and nobody would be left.
    /// </summary>
    public static int Second(ReadOnlySpan<string> arguments)
    {
        if (arguments.Length < 3 || !int.TryParse(arguments[0], out var guard))
            return WrongUsage;
        _ = setsid();
        Name();
        var set = stackalloc byte[128];
        Signals(set);
        var signals = signalfd(-1, set, O_CLOEXEC | O_NONBLOCK);
        // Whoever started it may be gone before it is watched: then its number says nothing any more.
        var process = ProcessFacts.Parent(getpid()) == guard ? (int)syscall(SYS_pidfd_open, guard, 0, 0) : -1;
        if (process >= 0)
        {
            var watch = stackalloc PollFd[2];
            watch[0] = new PollFd { Fd = process, Events = POLLIN };
            watch[1] = new PollFd { Fd = signals, Events = POLLIN };
            while (watch[0].Revents == 0)
            {
                watch[0].Revents = 0;
                _ = poll(watch, 2, -1);
                if (AskedToEnd(signals, 0, -1))
                    return 0;
            }
        }

        _ = close(signals);
        Title.Set(["calm-keeper", "guard-on", .. arguments[1..]]);
        return Guard(arguments[1..]);
    }

    private static void StartSecond()
    {
        if (second > 0 || Environment.TickCount64 < secondDue)
            return;
        byte* attributes = stackalloc byte[512],
            set = stackalloc byte[128],
            actions = stackalloc byte[256];
        Signals(set); // blocked before its runtime starts
        _ = posix_spawnattr_init(attributes);
        _ = posix_spawnattr_setsigmask(attributes, set);
        _ = posix_spawnattr_setflags(attributes, 0x08); // POSIX_SPAWN_SETSIGMASK
        _ = posix_spawn_file_actions_init(actions);
        int pid;
        fixed (byte* self = "/proc/self/exe"u8)
            second = posix_spawn(&pid, self, actions, attributes, secondCommand, handedOn) == 0 ? pid : 0;
        secondDue = Environment.TickCount64 + (second > 0 ? Beat : SoonAgain);
        _ = posix_spawnattr_destroy(attributes);
        _ = posix_spawn_file_actions_destroy(actions);
    }

    private static void EndSecond()
    {
        if (second <= 0)
            return;
        int status;
        _ = kill(second, SIGKILL); // it is our own child, not waited for yet: its number is its own
        _ = wait4(second, &status, 0, null);
        second = 0;
    }
}
