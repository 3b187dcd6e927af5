using System.Net.Sockets;
using CalmSentry.Contract.Keeper;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Engine.Keepers;

/// <summary>The server's end of the connection to one keeper: orders go out, news comes in, in order.</summary>
internal sealed class KeeperLink : IKeeper
{
    private readonly Socket socket;
    private readonly string runDirectory,
        program;
    private readonly int childPid;
    private byte[] inbox = new byte[1024];
    private int from,
        to;
    private volatile TaskCompletionSource? asked;

    private KeeperLink(Socket socket, string runDirectory, string program, int childPid) =>
        (this.socket, this.runDirectory, this.program, this.childPid) = (socket, runDirectory, program, childPid);

    /// <summary>Process id of a keeper this server started; 0 of one it found.</summary>
    public int Pid => childPid;

    /// <summary>What it understands (<see cref="KeeperVersion"/>); 0 before its hello.</summary>
    public int Version { get; private set; }

    /// <summary>Whether its program is another than the one that would be started today.</summary>
    public bool Outdated =>
        childPid == 0
        && (Version < KeeperVersion.Latest || !FileFacts.AreOne(ProcessFacts.ExecutableLink(PeerPid), program));

    /// <summary>A new keeper for a service; the first order binds it to the run directory.</summary>
    /// <exception cref="IOException">The keeper cannot be started.</exception>
    public static KeeperLink Start(KeeperStarter starter, string runDirectory)
    {
        var (pid, socket) = starter.Take();
        return new(socket, runDirectory, starter.Program, pid);
    }

    /// <summary>
    /// Connects to the keeper an earlier server started; null when there is none, or when it has been stopped for so long that no more
    /// servers fit into its queue.
    /// </summary>
    /// <param name="program">What a keeper's program is today.</param>
    public static async Task<KeeperLink?> Find(string runDirectory, string program)
    {
        for (var tries = 0; ; tries++)
        {
            try
            {
                return new(UnixConnection.Connect(runDirectory, "socket"), runDirectory, program, childPid: 0);
            }
            catch (SocketException error)
            {
                if (error.SocketErrorCode != SocketError.WouldBlock || tries == PlaceTries)
                    return null;
            }

            await Task.Delay(5);
        }
    }

    /// <summary>Sends an order. A keeper that is gone is noticed by the reading side.</summary>
    public void Send(Message order)
    {
        try
        {
            socket.Send(order.ToBytes().Span);
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException)
        {
            // Next() tells.
        }
    }

    /// <summary>
    /// The keeper of a run whose place was wiped, or null: the parent of what runs in the run's group makes its socket
    /// again and is connected to.
    /// </summary>
    /// <param name="processes">What is known to belong to the run.</param>
    /// <param name="program">What a keeper's program is today.</param>
    public static async Task<KeeperLink?> FindByProcesses(
        string runDirectory,
        string program,
        IEnumerable<int> processes
    )
    {
        foreach (var pid in processes.Select(KeeperOf).Distinct())
        {
            using var process = ProcessHandle.Open(pid);
            if (process is null || !IsKeeper(pid))
                continue;
            OwnDirectory.Make(runDirectory);
            if (!process.Signal(MakePlaceAgain))
                continue;
            for (var tries = 0; tries < PlaceTries; tries++)
            {
                if (await Find(runDirectory, program) is { } link)
                    return link;
                await Task.Delay(5);
            }
        }

        return null;
    }

    /// <summary>SIGURG: nothing to whoever does not know it (signal(7)).</summary>
    private const int MakePlaceAgain = 23;

    private const int PlaceTries = 200;

    /// <summary>The uppermost of those on the way: until it executes its program, what a keeper begins is a copy of that keeper.</summary>
    private static int KeeperOf(int pid)
    {
        var found = 0;
        for (var depth = 0; pid > 1 && depth < 64; depth++, pid = ProcessFacts.Parent(pid))
            if (IsKeeper(pid))
                found = pid;
            else if (found != 0)
                break;
        return found;
    }

    private static bool IsKeeper(int pid) =>
        ProcessFacts.CommandLine(pid) is ["calm-keeper", "keep", ..]
        && ProcessFacts.Users(pid)?.AreAll(Linux.Accounts.Account.OwnId) == true;

    /// <summary>
    /// Whether it answers within a time. One of the first version cannot say so: it counts as there unless somebody has
    /// stopped it.
    /// </summary>
    public async Task<bool> Answers(TimeSpan limit)
    {
        if (Version == 0)
            return false; // it has not even said hello
        if (Version < KeeperVersion.Answers)
            return !ProcessFacts.IsStopped(PeerPid);
        var here = new TaskCompletionSource(TaskCreationOptions.RunContinuationsAsynchronously);
        asked = here;
        Send(new Message(KeeperWord.Ask));
        return await Task.WhenAny(here.Task, Task.Delay(limit)) == here.Task;
    }

    /// <summary>Ends the keeper itself; what it kept is looked for as after any loss of one.</summary>
    public void End()
    {
        using var process = ProcessHandle.Open(PeerPid);
        if (process is not null && IsKeeper(PeerPid))
            _ = process.End();
    }

    private int PeerPid => childPid != 0 ? childPid : PeerCredentials.Of(socket)?.Pid ?? 0;

    /// <summary>The next news, or null once the keeper is gone.</summary>
    public async Task<(KeeperWord Word, byte[] Body)?> Next()
    {
        try
        {
            while (true)
            {
                if (
                    Message.TryReadHead(inbox.AsSpan(from, to - from), out var word, out var length)
                    && to - from >= Message.HeadLength + length
                )
                {
                    var body = inbox.AsSpan(from + Message.HeadLength, length).ToArray();
                    from += Message.HeadLength + length;
                    if (word == KeeperWord.Hello)
                        Version = (int)Message.Number(body, "version", KeeperVersion.First);
                    asked?.TrySetResult(); // whatever it says, it is there
                    return (word, body);
                }

                inbox.AsSpan(from, to - from).CopyTo(inbox);
                (from, to) = (0, to - from);
                if (to == inbox.Length)
                    Array.Resize(ref inbox, inbox.Length * 2);
                var got = await socket.ReceiveAsync(inbox.AsMemory(to));
                if (got == 0)
                    return null;
                to += got;
            }
        }
        catch (Exception error) when (error is SocketException or InvalidDataException or ObjectDisposedException)
        {
            return null; // Gone is gone, however it went.
        }
    }

    /// <summary>Completes when the keeper's process is gone for good, its lock on the service free again.</summary>
    public async Task Buried()
    {
        socket.Dispose();
        if (childPid != 0)
        {
            KeeperStarter.Collect(childPid);
            return;
        }

        for (var tries = 0; tries < 2000; tries++)
        {
            using var free = FileLock.TryTake(Path.Combine(runDirectory, "lock"));
            if (free is not null)
                return;
            await Task.Delay(1);
        }
    }
}
