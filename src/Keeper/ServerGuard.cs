using System.Buffers.Text;
using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Processes;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The server's own guard: <c>guard RUN-DIRECTORY SERVER ARGUMENT…</c> starts the server, or takes up one that runs,
/// and starts
/// it again when it ends for any reason but the guard's own end: at once, then with growing pauses. SIGTERM ends both;
/// programs
/// go on. One guard a run directory, by the lock on <c>guard.lock</c>. It holds the console's listening socket as well
/// and hands it
/// to the next server: while the server is away nobody else gets the port, and who connects waits.
/// </summary>
internal static unsafe class ServerGuard
{
    private const int SIGHUP = 1,
        SIGINT = 2,
        SIGUSR1 = 10,
        WrongUsage = 2;

    /// <summary>The number under which the next server finds the console's socket.</summary>
    private const int HandedPort = 3;

    private static int port = -1;

    /// <summary>Milliseconds. A server up for longer than Steady forgets the pauses before.</summary>
    private const int FirstPause = 100,
        LongestPause = 5000,
        Steady = 5000;

    /// <summary>
    /// The runtime has threads before Main: what they are not to take must be blocked before it starts, so it starts
    /// twice.
    /// </summary>
    public static int Begin(ReadOnlySpan<string> arguments)
    {
        var set = stackalloc byte[128];
        Signals(set);
        _ = sigprocmask(SIG_SETMASK, set, null);
        var argv = Texts(["calm-keeper", "guard-on", .. arguments]);
        fixed (byte* self = "/proc/self/exe"u8)
            _ = execve(self, argv, As.Environ());
        return 127;
    }

    public static int Guard(ReadOnlySpan<string> arguments)
    {
        if (arguments.Length < 2)
            return WrongUsage;
        _ = setsid();
        const int setName = 15;
        fixed (byte* name = "calm-keeper"u8)
            _ = prctl(setName, (nuint)name, 0, 0, 0); // it was executed by a path that says nothing
        using var place = new CString(arguments[0]);
        if (chdir(place.Pointer) < 0)
            return Say($"{arguments[0]} is not there", 1);
        if (!TakeLock())
            return Say("another guard has this sentry already", 1);
        var set = stackalloc byte[128];
        Signals(set);
        var signals = signalfd(-1, set, O_CLOEXEC | O_NONBLOCK);
        var server = Running(arguments[1]);
        string? fell = null;
        for (var pause = 0; ; )
        {
            if (server == 0)
                server = Start(arguments[1..], fell);
            var began = Environment.TickCount64;
            if (server > 0 && Watch(server, signals))
            {
                _ = kill(server, SIGTERM);
                _ = Watch(server, -1);
                Records.Remove("guard.pid");
                return 0;
            }

            var status = Status(server);
            if (status >> 8 == WrongUsage && (status & 0x7f) == 0)
                return Say("the server does not take these arguments", WrongUsage);
            var upFor = Environment.TickCount64 - began;
            if (upFor >= Steady)
                pause = 0;
            fell =
                $"The server (pid {server}) {Ended(status)} after {upFor / 1000.0:0.0} s; its guard began it "
                + $"again {(pause == 0 ? "at once" : $"after a pause of {pause / 1000.0:0.0} s")}. Programs went on.";
            _ = Say(fell, 0);
            if (Pause(signals, pause))
                return 0;
            pause = pause == 0 ? FirstPause : Math.Min(pause * 2, LongestPause);
            server = 0;
        }
    }

    private static void Signals(byte* set)
    {
        _ = sigemptyset(set);
        foreach (var signal in (ReadOnlySpan<int>)[SIGTERM, SIGINT, SIGHUP, SIGUSR1, SIGCHLD])
            _ = sigaddset(set, signal);
    }

    private static bool TakeLock()
    {
        int file;
        fixed (byte* name = "guard.lock"u8)
            file = open(name, O_RDWR | O_CREAT | O_CLOEXEC, 0x180);
        if (file < 0 || flock(file, LOCK_EX | LOCK_NB) < 0)
            return false; // kept open, and with it the lock, until our end
        Records.Write("guard.pid", Encoding.ASCII.GetBytes($"{getpid()}\n"));
        return true;
    }

    /// <summary>
    /// A server that serves this run directory already, or 0: the guard before this one is gone, the server is not.
    /// </summary>
    private static int Running(string binary)
    {
        int file;
        fixed (byte* name = "server.pid"u8)
            file = open(name, O_RDONLY | O_CLOEXEC, 0);
        if (file < 0)
            return 0;
        var text = stackalloc byte[16];
        var got = read(file, text, 16);
        _ = close(file);
        if (got <= 0 || !Utf8Parser.TryParse(new ReadOnlySpan<byte>(text, (int)got), out int pid, out _))
            return 0;
        return ProcessFacts.Executable(pid) == Path.GetFullPath(binary) ? pid : 0;
    }

    private static int Start(ReadOnlySpan<string> command, string? fell)
    {
        byte* attributes = stackalloc byte[512],
            none = stackalloc byte[128];
        _ = sigemptyset(none);
        _ = posix_spawnattr_init(attributes);
        _ = posix_spawnattr_setsigmask(attributes, none);
        _ = posix_spawnattr_setflags(attributes, 0x08); // POSIX_SPAWN_SETSIGMASK
        var given = As.Environ();
        var count = 0;
        while (given[count] is not null)
            count++;
        var environment = (byte**)NativeMemory.AllocZeroed((nuint)count + 5, (nuint)sizeof(byte*));
        for (var i = 0; i < count; i++)
            environment[i] = given[i];
        // A small first generation keeps an idle server small; the runtime takes it from its environment alone.
        environment[count] = new CString("DOTNET_GCgen0size=400000").Pointer;
        environment[count + 1] = new CString($"CALM_GUARD={getpid()}").Pointer;
        if (fell is not null)
            environment[count + 2] = new CString($"CALM_FELL={fell}").Pointer;
        var actions = stackalloc byte[256];
        _ = posix_spawn_file_actions_init(actions);
        if (port >= 0)
        {
            environment[count + 2 + (fell is null ? 0 : 1)] = new CString($"CALM_PORT={HandedPort}").Pointer;
            _ = posix_spawn_file_actions_adddup2(actions, port, HandedPort);
        }

        int pid;
        using var path = new CString(command[0]);
        var error = posix_spawn(&pid, path.Pointer, actions, attributes, Texts(command), environment);
        _ = posix_spawn_file_actions_destroy(actions);
        NativeMemory.Free(environment);
        if (error == 0)
            return pid;
        _ = Say($"{command[0]} cannot be started: {Names.Errno(error)}", 0);
        return -1;
    }

    /// <summary>True when the guard is asked to end, false when the server has ended.</summary>
    private static bool Watch(int server, int signals)
    {
        var process = (int)syscall(SYS_pidfd_open, server, 0, 0);
        if (process < 0)
            return false;
        var watch = stackalloc PollFd[2];
        watch[0] = new PollFd { Fd = process, Events = POLLIN };
        watch[1] = new PollFd { Fd = signals, Events = POLLIN };
        while (true)
        {
            _ = poll(watch, 2, -1);
            if (AskedToEnd(signals, server, process))
            {
                _ = close(process);
                return true;
            }

            if (watch[0].Revents == 0)
                continue;
            _ = close(process);
            return false;
        }
    }

    private static bool Pause(int signals, int milliseconds)
    {
        var watch = new PollFd { Fd = signals, Events = POLLIN };
        var until = Environment.TickCount64 + milliseconds;
        while (Environment.TickCount64 < until)
        {
            _ = poll(&watch, 1, (int)Math.Max(1, until - Environment.TickCount64));
            if (AskedToEnd(signals, 0, -1))
                return true;
        }

        return false;
    }

    /// <param name="process">The server's process descriptor, or -1.</param>
    private static bool AskedToEnd(int signals, int server, int process)
    {
        var info = stackalloc byte[128];
        while (signals >= 0 && read(signals, info, 128) == 128)
        {
            if (*(int*)info == SIGUSR1)
                HoldPort(server, process);
            else if (*(int*)info != SIGCHLD)
                return true;
        }

        return false;
    }

    /// <summary>
    /// Takes a copy of the server's listening socket, whose number the server has written into <c>port.held</c>
    /// (pidfd_getfd(2)). Kept at 10 or above, so that it is not in the way of what a server is started with.
    /// </summary>
    private static void HoldPort(int server, int process)
    {
        int file;
        fixed (byte* name = "port.held"u8)
            file = open(name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW, 0);
        if (file < 0)
            return;
        var text = stackalloc byte[32];
        var got = (int)read(file, text, 32);
        _ = close(file);
        var words = new ReadOnlySpan<byte>(text, Math.Max(0, got));
        if (!Utf8Parser.TryParse(words, out int whose, out var used) || whose != server || process < 0 || used >= got)
            return;
        if (!Utf8Parser.TryParse(words[(used + 1)..], out int number, out _))
            return;
        var copy = (int)syscall(SYS_pidfd_getfd, process, number, 0);
        if (copy < 0)
            return;
        const int duplicate = 1030,
            lowest = 10; // F_DUPFD_CLOEXEC
        var held = fcntl(copy, duplicate, lowest);
        _ = close(copy);
        if (held < 0)
            return;
        if (port >= 0)
            _ = close(port);
        port = held;
    }

    /// <summary>Its wait status; -1 of one that is not our child.</summary>
    private static int Status(int server)
    {
        int status;
        return server > 0 && wait4(server, &status, 0, null) == server ? status : -1;
    }

    private static string Ended(int status) =>
        status < 0 ? "ended"
        : (status & 0x7f) != 0
            ? $"was killed by signal "
                + $"{Encoding.ASCII.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(sigabbrev_np(status & 0x7f)))}"
        : $"ended with exit code {status >> 8}";

    private static int Say(string text, int exit)
    {
        var line = Encoding.UTF8.GetBytes($"calm-keeper guard: {text}\n");
        fixed (byte* bytes = line)
            _ = write(2, bytes, line.Length);
        return exit;
    }

    private static byte** Texts(ReadOnlySpan<string> texts)
    {
        var list = (byte**)NativeMemory.AllocZeroed((nuint)texts.Length + 1, (nuint)sizeof(byte*));
        for (var i = 0; i < texts.Length; i++)
            list[i] = new CString(texts[i]).Pointer;
        return list;
    }
}
