using System.Buffers.Text;
using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Processes;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// The server's own guard: <c>guard RUN-DIRECTORY SERVER ARGUMENT…</c> starts the server, or takes up one that runs, and
/// starts it again when it ends for any reason but the guard's own end: at once, then with growing pauses. SIGTERM ends
/// both; programs go on. One guard a sentry, by the lock on <c>guard.lock</c> beside the store, where nobody wipes it. A
/// <b>second</b> process watches the guard and becomes it when it is killed, also together with the server; the guard
/// watches the second. It holds the console's listening socket as well and hands it to the next server: while the server is
/// away nobody else gets the port, and who connects waits.
/// </summary>
internal static unsafe partial class ServerGuard
{
    private const int SIGHUP = 1,
        SIGINT = 2,
        SIGUSR1 = 10,
        WrongUsage = 2;

    /// <summary>The number under which the next server finds the console's socket.</summary>
    private const int HandedPort = 3;

    private static int port = -1;

    private static byte* place;
    private static Places places = new("/");

    /// <summary>The environment that server and second are begun with.</summary>
    private static byte** handedOn;

    private static string[] begunWith = [];

    /// <summary>Milliseconds between looks whether the run directory is there, and between starts of a second.</summary>
    private const int Beat = 2000;

    /// <summary>So many looks in a row without a sign of life of the server, and it is ended: half a minute.</summary>
    private const int LooksWithoutLife = 15;

    /// <summary>Milliseconds. A server up for longer than Steady forgets the pauses before.</summary>
    private const int FirstPause = 100,
        LongestPause = 5000,
        LongestEnd = 20_000,
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
        Name();
        OwnStanding.KeepFromMemoryChoice();
        place = new CString(arguments[0]).Pointer;
        if (!TryPlaces(arguments[0], out places))
            return Say(
                $"{arguments[0]} is no run directory of a sentry, which ends in {places.RunDirectory}",
                WrongUsage
            );
        if (!EnterPlace())
            return Say($"{arguments[0]} is not there and cannot be made", 1);
        if (!TakeLock() && !TakeLockOnceLeft())
            return Say("another guard has this sentry already", 1);
        // At each boot it is anybody's to make first, so it is made before a service with a window wants it.
        if (Account.OwnId == 0 && DisplayFolder.Make(LaunchField.DisplaySockets) is { } inTheWay)
            _ = Say(inTheWay, 0);
        var set = stackalloc byte[128];
        Signals(set);
        var signals = signalfd(-1, set, O_CLOEXEC | O_NONBLOCK);
        secondCommand = Texts(["calm-keeper", "guard-second", $"{getpid()}", .. arguments]);
        handedOn = WithUsualFiles();
        begunWith = [.. arguments];
        SayWho();
        var command = Texts(arguments[1..]);
        string? fell = null;
        for (var pause = 0; ; )
        {
            // Also one that another guard had just started when it was killed: it may hold the lock before it says who it is.
            var server = Running(arguments[1]);
            if (server == 0)
                server = Start(arguments[1], command, fell);
            StartSecond();
            var began = Environment.TickCount64;
            if (server > 0 && Watch(server, signals))
            {
                LastResort.WantNot(places);
                EndSecond();
                _ = kill(server, SIGTERM);
                if (Watch(server, -1))
                    _ = kill(server, SIGKILL); // it does not end: whoever asked is not kept waiting
                return Leave(0);
            }

            var status = Status(server);
            if (status >> 8 == WrongUsage && (status & 0x7f) == 0)
            {
                EndSecond();
                return Leave(Say("the server does not take these arguments", WrongUsage));
            }

            var upFor = Environment.TickCount64 - began;
            if (upFor >= Steady)
                pause = 0;
            fell =
                $"The server (pid {server}) {(hung ? "gave no sign of life for half a minute and was ended" : Ended(status))} after {upFor / 1000.0:0.0} s; its guard began it "
                + $"again {(pause == 0 ? "at once" : $"after a pause of {pause / 1000.0:0.0} s")}. Programs went on.";
            _ = Say(fell, 0);
            if (Pause(signals, pause))
            {
                EndSecond();
                return Leave(0);
            }

            pause = pause == 0 ? FirstPause : Math.Min(pause * 2, LongestPause);
        }
    }

    /// <summary>It was asked to end, or cannot do its work: nobody is to begin another.</summary>
    private static int Leave(int exit)
    {
        LastResort.WantNot(places);
        Records.Remove(PidFile);
        return exit;
    }

    /// <summary>The places of the sentry whose run directory this is.</summary>
    internal static bool TryPlaces(string runDirectory, out Places places)
    {
        places = new("/");
        var end = places.RunDirectory;
        if (!runDirectory.EndsWith(end, StringComparison.Ordinal))
            return false;
        if (runDirectory[..^end.Length] is { Length: > 0 } root)
            places = new(root);
        return true;
    }

    /// <summary>The environment as it was given, with what this host's usual limit is: our own is raised.</summary>
    private static byte** WithUsualFiles()
    {
        var given = As.Environ();
        var count = 0;
        while (given[count] is not null)
            count++;
        var environment = (byte**)NativeMemory.AllocZeroed((nuint)count + 2, (nuint)sizeof(byte*));
        for (var i = 0; i < count; i++)
            environment[i] = given[i];
        if (Environment.GetEnvironmentVariable(OwnStanding.UsualFilesVariable) is null)
            environment[count] = new CString($"{OwnStanding.UsualFilesVariable}={OwnStanding.UsualFiles}").Pointer;
        return environment;
    }

    private const string PidFile = "guard.pid";

    private static void Name()
    {
        const int setName = 15;
        fixed (byte* name = "calm-keeper"u8)
            _ = prctl(setName, (nuint)name, 0, 0, 0); // it was executed by a path that says nothing
    }

    /// <summary>The run directory, made when it is not there: whoever wipes it does not take the guard away.</summary>
    private static bool EnterPlace() => chdir(place) == 0 || (mkdir(place, 0x1ED) == 0 && chdir(place) == 0);

    private static void KeepPlace()
    {
        // By its path: the working directory may be one that is wiped. What it says may be of the guard before, from when the
        // disk was full.
        if (Records.Number(places.Guard) != getpid() && EnterPlace())
            SayWho();
    }

    private static void SayWho()
    {
        Records.Write(PidFile, Encoding.ASCII.GetBytes($"{getpid()}\n"));
        LastResort.Want(places, begunWith, handedOn);
    }

    private static void Signals(byte* set)
    {
        _ = sigemptyset(set);
        foreach (var signal in (ReadOnlySpan<int>)[SIGTERM, SIGINT, SIGHUP, SIGUSR1, SIGCHLD])
            _ = sigaddset(set, signal);
    }

    /// <summary>
    /// Beside the store: a run directory may be wiped, and two guards would come to be. One of an earlier version locks in
    /// the run directory, so that is asked, too.
    /// </summary>
    private static bool TakeLock()
    {
        var library = places.Library;
        for (var at = library.IndexOf('/', 1); at > 0; at = library.IndexOf('/', at + 1))
            Make(library[..at]);
        Make(library);
        var lasting = Locked(places.GuardLock);
        if (lasting >= 0 && Locked("guard.lock") >= 0)
            return true;
        if (lasting >= 0)
            _ = close(lasting);
        return false;
    }

    private static void Make(string directory)
    {
        using var path = new CString(directory);
        _ = mkdir(path.Pointer, 0x1C9); // 0711, as the server makes it
    }

    /// <returns>A descriptor that is kept open, and with it the lock, until our end; -1: somebody else has it.</returns>
    private static int Locked(string path)
    {
        using var name = new CString(path);
        var file = open(name.Pointer, O_RDWR | O_CREAT | O_CLOEXEC, 0x180);
        if (file < 0 || flock(file, LOCK_EX | LOCK_NB) == 0)
            return file;
        _ = close(file);
        return -1;
    }

    /// <summary>
    /// A guard that was asked to end wants no other any more, and may take its time: whoever is begun meanwhile follows it, or nobody
    /// would be left.
    /// </summary>
    private static bool TakeLockOnceLeft()
    {
        const int beat = 100;
        for (var waited = 0; waited < LongestEnd + LongestPause && !LastResort.IsWanted(places); waited += beat)
        {
            _ = poll(null, 0, beat);
            if (TakeLock())
                return true;
        }

        return false;
    }

    /// <summary>
    /// A server of this sentry that runs already, or 0: the guard before this one is gone, the server is not. It is known by
    /// the lock that it holds from its first moment on, as the kernel tells it, and by its account: anybody can execute the same file
    /// and have the lock's file open. What it writes down comes later, and can be wiped.
    /// </summary>
    private static int Running(string binary)
    {
        // One whose file was replaced meanwhile is another version, and serves all the same (proc(5), exe).
        const string replaced = " (deleted)";
        var own = ProcessFacts.EffectiveUser(getpid());
        foreach (var pid in ProcessFacts.All())
        {
            var executes = ProcessFacts.Executable(pid) ?? "";
            if (executes.EndsWith(replaced, StringComparison.Ordinal))
                executes = executes[..^replaced.Length];
            if (
                executes == Path.GetFullPath(binary)
                && ProcessFacts.EffectiveUser(pid) == own
                && ProcessFacts.HoldsLock(pid, path => path == places.Lock)
            )
                return pid;
        }

        return 0;
    }

    private static int Start(string binary, byte** command, string? fell)
    {
        byte* attributes = stackalloc byte[512],
            none = stackalloc byte[128];
        _ = sigemptyset(none);
        _ = posix_spawnattr_init(attributes);
        _ = posix_spawnattr_setsigmask(attributes, none);
        _ = posix_spawnattr_setflags(attributes, 0x08); // POSIX_SPAWN_SETSIGMASK
        var given = handedOn;
        var count = 0;
        while (given[count] is not null)
            count++;
        var environment = (byte**)NativeMemory.AllocZeroed((nuint)count + 6, (nuint)sizeof(byte*));
        for (var i = 0; i < count; i++)
            environment[i] = given[i];
        // A small first generation keeps an idle server small, and room that large calls have left in pieces is closed up again; the
        // runtime takes both from its environment alone.
        using var small = new CString("DOTNET_GCgen0size=400000");
        using var whole = new CString("DOTNET_GCConserveMemory=5");
        using var guarded = new CString($"CALM_GUARD={getpid()}");
        using var told = new CString($"CALM_FELL={fell}");
        using var handed = new CString($"CALM_PORT={HandedPort}");
        environment[count] = small.Pointer;
        environment[count + 1] = whole.Pointer;
        environment[count + 2] = guarded.Pointer;
        count += 3;
        if (fell is not null)
            environment[count++] = told.Pointer;
        var actions = stackalloc byte[256];
        _ = posix_spawn_file_actions_init(actions);
        if (port >= 0)
        {
            environment[count++] = handed.Pointer;
            _ = posix_spawn_file_actions_adddup2(actions, port, HandedPort);
        }

        int pid;
        using var path = new CString(binary);
        var error = posix_spawn(&pid, path.Pointer, actions, attributes, command, environment);
        _ = posix_spawn_file_actions_destroy(actions);
        _ = posix_spawnattr_destroy(attributes);
        NativeMemory.Free(environment);
        if (error == 0)
            return pid;
        _ = Say($"{binary} cannot be started: {Names.Errno(error)}", 0);
        return -1;
    }

    /// <summary>
    /// True when the guard is asked to end, false when the server has ended. Without signals: true when the server takes
    /// too long to end.
    /// </summary>
    private static bool Watch(int server, int signals)
    {
        var still = 0;
        hung = false;
        var process = (int)syscall(SYS_pidfd_open, server, 0, 0);
        if (process < 0)
            return false;
        var watch = stackalloc PollFd[2];
        watch[0] = new PollFd { Fd = process, Events = POLLIN };
        watch[1] = new PollFd { Fd = signals, Events = POLLIN };
        while (true)
        {
            watch[0].Revents = 0;
            var seen = poll(
                watch,
                2,
                signals < 0 ? LongestEnd
                    : second > 0 ? Beat
                    : SoonAgain
            );
            if (seen == 0 && signals < 0)
            {
                _ = close(process);
                return true;
            }

            if (AskedToEnd(signals, server, process))
            {
                _ = close(process);
                return true;
            }

            if (signals >= 0)
            {
                StartSecond();
                KeepPlace();
                // Once it is being ended for that, whatever it still does is no sign of life.
                if (hung || ShowsLife(server))
                    still = 0;
                else if (seen == 0 && second > 0 && (hung = ++still >= LooksWithoutLife))
                    _ = syscall(SYS_pidfd_send_signal, process, SIGKILL, 0, 0);
            }

            if (watch[0].Revents == 0)
                continue;
            _ = close(process);
            return false;
        }
    }

    private static bool hung;
    private static DateTime touched;

    /// <summary>
    /// Whether the server has touched its file since the last look. One that says who it is and has no such file is of an
    /// earlier version, and is not judged.
    /// </summary>
    private static bool ShowsLife(int server)
    {
        var last = touched;
        touched = File.GetLastWriteTimeUtc(places.ServerBeat);
        return touched != last || (!File.Exists(places.ServerBeat) && Records.Number("server.pid") == server);
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
            int status;
            if (second > 0 && wait4(second, &status, WNOHANG, null) != 0)
                second = 0;
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

    internal static void Free(byte** texts)
    {
        for (var one = texts; *one is not null; one++)
            NativeMemory.Free(*one);
        NativeMemory.Free(texts);
    }

    internal static byte** Texts(ReadOnlySpan<string> texts)
    {
        var list = (byte**)NativeMemory.AllocZeroed((nuint)texts.Length + 1, (nuint)sizeof(byte*));
        for (var i = 0; i < texts.Length; i++)
            list[i] = new CString(texts[i]).Pointer;
        return list;
    }
}
