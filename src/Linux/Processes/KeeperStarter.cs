using System.Net.Sockets;
using System.Runtime.InteropServices;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Linux.Processes;

/// <summary>Starts keepers, in sessions of their own so that they outlive the server.</summary>
public sealed class KeeperStarter(string binary, string runDirectory)
{
    /// <summary>The program that is started.</summary>
    public string Program => binary;

    /// <summary>So many are kept ready for an act of many at most.</summary>
    private const int MostSpare = 256;

    private readonly Queue<(int Pid, Socket Connection)> spare = new();
    private readonly Lock spareLock = new();
    private int promised,
        expected,
        making;
    private long taken;
    private bool trims;

    private int Due => Math.Min(1 + promised + expected, MostSpare);

    /// <summary>
    /// A keeper that waits for its first order: its pid and the server's end of its first connection. One is always
    /// kept in
    /// reserve, so that a launch does not wait for a keeper to start; it ends by itself when the server does.
    /// </summary>
    /// <exception cref="IOException">The keeper's binary cannot be executed, or the host is out of processes or
    /// descriptors.</exception>
    public (int Pid, Socket Connection) Take()
    {
        lock (spareLock)
        {
            taken++;
            promised = Math.Max(0, promised - 1);
        }

        while (true)
        {
            (int Pid, Socket Connection) ready;
            lock (spareLock)
                if (!spare.TryDequeue(out ready))
                    break;
            if (!HasEnded(ready.Pid))
                return ready;
            ready.Connection.Dispose();
        }

        return Start();
    }

    /// <summary>
    /// Puts a keeper in reserve, unless there is one; not at once, so that it does not compete with a launch under way.
    /// </summary>
    public void ReserveSoon() => _ = Task.Delay(100).ContinueWith(_ => Fill(1), TaskScheduler.Default);

    /// <summary>
    /// Keepers for so many launches that come together are made at once, while it is still looked at what stands in their way. Whoever
    /// asked lets go when they have been launched, or will not be: what is left over then leaves.
    /// </summary>
    public IDisposable Reserve(int count)
    {
        if (count <= 1)
            return new Reserved(() => { });
        long before;
        lock (spareLock)
        {
            promised += count;
            before = taken;
        }

        _ = Task.Run(() => Fill(Math.Min(count, MostSpare)));
        return new Reserved(() =>
        {
            lock (spareLock)
                promised = (int)Math.Max(0, promised - Math.Max(0, count - (taken - before)));
            _ = Task.Run(Trim);
        });
    }

    /// <summary>
    /// So many launches come within a few seconds, as far as is known: their keepers are made before their moment. What none of them
    /// took leaves a while later.
    /// </summary>
    public void Expect(int count)
    {
        bool fills,
            trimsLater;
        lock (spareLock)
        {
            expected = count;
            fills = spare.Count + making < Due;
            trimsLater = !trims && spare.Count > Due;
            trims |= trimsLater;
        }

        // Not at once: a launch may be under way at this very moment.
        if (fills)
            _ = Task.Delay(Aside).ContinueWith(_ => Fill(count + 1), TaskScheduler.Default);
        if (trimsLater)
            _ = Task.Delay(Unused).ContinueWith(_ => Trim(), TaskScheduler.Default);
    }

    private static readonly TimeSpan Aside = TimeSpan.FromMilliseconds(20),
        Unused = TimeSpan.FromSeconds(10);

    private void Trim()
    {
        List<(int Pid, Socket Connection)> over = [];
        lock (spareLock)
        {
            trims = false;
            while (spare.Count > Due)
                over.Add(spare.Dequeue());
        }

        foreach (var keeper in over)
            LetGo(keeper);
    }

    private sealed class Reserved(Action letGo) : IDisposable
    {
        private Action? left = letGo;

        public void Dispose() => Interlocked.Exchange(ref left, null)?.Invoke();
    }

    private void Fill(int count)
    {
        for (var made = 0; made < count; made++)
        {
            lock (spareLock)
            {
                if (spare.Count + making >= Due)
                    return;
                making++;
            }

            (int Pid, Socket Connection)? one = null;
            var over = false;
            try
            {
                one = Start();
            }
            catch (IOException)
            {
                return; // without one in reserve a launch takes a moment longer, and says it if none can be started
            }
            finally
            {
                lock (spareLock)
                {
                    making--;
                    over = spare.Count >= Due; // nobody needs it any more
                    if (one is { } keeper && !over)
                        spare.Enqueue(keeper);
                }
            }

            if (over)
                LetGo(one.Value);
        }
    }

    private static void LetGo((int Pid, Socket Connection) keeper)
    {
        keeper.Connection.Dispose(); // without a server and a run it leaves
        Collect(keeper.Pid);
    }

    private unsafe (int Pid, Socket Connection) Start()
    {
        int* ends = stackalloc int[2];
        if (Libc.socketpair(Libc.AF_UNIX, Libc.SOCK_STREAM | Libc.SOCK_CLOEXEC, 0, ends) < 0)
            throw new OwnTroubleException($"no socket for a keeper ({Names.Errno(Marshal.GetLastSystemError())})");
        // Opaque C structures, with room to spare (glibc on x86-64: 80, 336 and 128 bytes).
        byte* actions = stackalloc byte[256],
            attributes = stackalloc byte[512],
            set = stackalloc byte[128];
        _ = Libc.posix_spawn_file_actions_init(actions);
        _ = Libc.posix_spawnattr_init(attributes);
        _ = Libc.sigemptyset(set);
        // The keeper reads its signals from a descriptor: they must be blocked before its runtime starts its first own
        // thread.
        _ = Libc.sigaddset(set, Libc.SIGCHLD);
        _ = Libc.sigaddset(set, Libc.SIGURG);
        _ = Libc.posix_spawnattr_setsigmask(attributes, set);
        const short setSession = 0x80,
            setMask = 0x08;
        _ = Libc.posix_spawnattr_setflags(attributes, setSession | setMask);
        using var path = new CString(binary);
        using var name = new CString("calm-keeper");
        using var mode = new CString("keep");
        // With room behind it, in which a keeper says whose run it keeps.
        using var directory = new CString(runDirectory + new string(' ', TitleRoom));
        using var nothing = new CString("/dev/null");
        using var log = new CString(Path.Combine(runDirectory, "keepers.log"));
        _ = Libc.posix_spawn_file_actions_adddup2(actions, ends[1], 3);
        _ = Libc.posix_spawn_file_actions_addopen(actions, 0, nothing.Pointer, Libc.O_RDONLY, 0);
        _ = Libc.posix_spawn_file_actions_addopen(actions, 1, nothing.Pointer, Libc.O_WRONLY, 0);
        _ = Libc.posix_spawn_file_actions_addopen(
            actions,
            2,
            log.Pointer,
            Libc.O_WRONLY | Libc.O_CREAT | Libc.O_APPEND,
            0x180
        );
        var argv = stackalloc byte*[] { name.Pointer, mode.Pointer, directory.Pointer, null };
        var environment = stackalloc byte*[] { null };
        int pid;
        var error = Libc.posix_spawn(&pid, path.Pointer, actions, attributes, argv, environment);
        _ = Libc.posix_spawn_file_actions_destroy(actions);
        _ = Libc.posix_spawnattr_destroy(attributes);
        _ = Libc.close(ends[1]);
        var connection = new Socket(new SafeSocketHandle(ends[0], ownsHandle: true));
        if (error == 0)
            return (pid, connection);
        connection.Dispose();
        var why = $"the keeper {binary} cannot be started: {Names.Errno(error)}";
        throw new OwnTroubleException(why); // whatever it is: it says nothing of the program
    }

    private const int TitleRoom = 56; // a short name has 48 characters at most

    private static unsafe bool HasEnded(int pid)
    {
        int status;
        return Libc.wait4(pid, &status, Libc.WNOHANG, null) != 0;
    }

    /// <summary>
    /// Takes a keeper's exit from the kernel once its connection has closed. Harmless for one that is not our child.
    /// </summary>
    public static unsafe void Collect(int pid)
    {
        int status;
        _ = Libc.wait4(pid, &status, 0, null);
    }
}
