using System.Collections.Concurrent;
using System.Net.Sockets;
using CalmSentry.Contract;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Server.Doors;

/// <summary>
/// The sockets on which programs speak of themselves, one for each service, owned by its account, in a directory of the
/// sentry.
/// Whether who connects belongs to the service is judged once, as the connection is made: its process must be in that
/// service's tree.
/// </summary>
internal sealed class SayDoors(Places places, string groupMark) : ISayDoors, IDisposable
{
    private const int Backlog = 64,
        MostOfOne = 16;

    /// <summary>A service that connects more often than it may is heard that much later.</summary>
    private static readonly TimeSpan TooOften = TimeSpan.FromMilliseconds(100);

    private readonly ConcurrentDictionary<string, Opened> doors = new(StringComparer.Ordinal);
    private readonly TaskCompletionSource<DoorTransport.Listener> serving = new(
        TaskCreationOptions.RunContinuationsAsynchronously
    );
    private readonly Pace pace = new();

    private sealed record Opened(Socket Socket, uint Uid, CancellationTokenSource Closed);

    /// <summary>Where judged connections go, once the server serves.</summary>
    public DoorTransport.Listener Connections
    {
        set => serving.TrySetResult(value);
    }

    /// <summary>
    /// Opens a service's socket for its account; programs that connect before the server serves are heard then.
    /// </summary>
    /// <exception cref="IOException">It cannot be made.</exception>
    public void Open(IRunning service, Account account)
    {
        var actor = (ServiceActor)service;
        var name = actor.Id.ToString();
        if (doors.TryGetValue(name, out var there) && there.Uid == account.Uid)
            return;
        Close(name);
        try
        {
            using var run = Held.Walk(Ground.Own, places.RunDirectory);
            using var directory = run.Held.MakeDirectory(
                Path.GetFileName(places.SayDirectory),
                (UnixFileMode)0b111_001_001
            );
            var file = Path.GetFileName(places.SayOf(name));
            directory.Remove(file);
            var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            // By the directory's descriptor: a root may be deeper than a socket address is long. Nobody gets in before
            // it listens.
            socket.Bind(new UnixDomainSocketEndPoint($"{directory.Path}/{file}"));
            File.SetUnixFileMode($"{directory.Path}/{file}", UnixFileMode.UserRead | UnixFileMode.UserWrite);
            using (var entry = directory.Entry(file))
                _ = entry?.Give(account.Uid, uint.MaxValue);
            socket.Listen(Backlog);
            var opened = new Opened(socket, account.Uid, new());
            doors[name] = opened;
            _ = Task.Run(() => Take(actor, opened));
        }
        catch (SocketException error)
        {
            throw new IOException($"the socket it could speak on cannot be made: {error.Message}");
        }
    }

    public void Close(ServiceId service) => Close(service.ToString());

    private void Close(string name)
    {
        if (!doors.TryRemove(name, out var opened))
            return;
        opened.Closed.Cancel();
        opened.Socket.Dispose();
        File.Delete(places.SayOf(name));
    }

    public void Dispose()
    {
        foreach (var name in doors.Keys)
            Close(name);
    }

    private async Task Take(ServiceActor actor, Opened door)
    {
        var held = 0;
        try
        {
            var to = await serving.Task.WaitAsync(door.Closed.Token).ConfigureAwait(false);
            while (true)
            {
                var connection = await door.Socket.AcceptAsync(door.Closed.Token).ConfigureAwait(false);
                var word = new DoorWord(
                    DoorKind.Say,
                    door.Uid,
                    actor.Definition.Account,
                    actor,
                    () => Interlocked.Decrement(ref held)
                );
                if (!Belongs(actor, connection))
                    Refusal.NotOfIt.Send(connection);
                else if (Volatile.Read(ref held) >= MostOfOne || !to.Take(connection, word))
                    connection.Dispose();
                else
                    Interlocked.Increment(ref held);
                if (pace.Take(actor, DoorKind.Say))
                    continue;
                actor.SaysTooOften(Pace.Of(DoorKind.Say));
                await Task.Delay(TooOften, door.Closed.Token).ConfigureAwait(false);
            }
        }
        catch (Exception error) when (error is OperationCanceledException or ObjectDisposedException)
        {
            // It was closed.
        }
        catch (SocketException error)
        {
            actor.Trouble($"The socket it speaks on failed: {error.Message}. Its next start makes it anew.");
            doors.TryRemove(KeyValuePair.Create(actor.Id.ToString(), door));
        }
    }

    /// <summary>
    /// By descent from the service's keeper, or by its control group, where its watches' commands run too.
    /// </summary>
    private bool Belongs(ServiceActor actor, Socket connection)
    {
        if (PeerCredentials.Of(connection) is not { } peer || actor.Situation.Run is not { } run)
            return false;
        var began = ProcessFacts.Stat(peer.Pid, 22);
        var inGroup = ProcessFacts.InGroup(peer.Pid, $"calm-sentry-{groupMark}/{actor.Label}.{run.Number}");
        // Its number could have gone to another process while it was looked at.
        return (inGroup || BelowKeeper(actor, peer.Pid))
            && began != 0
            && ProcessFacts.Stat(peer.Pid, 22) == began
            && PeerCredentials.StillThere(connection);
    }

    private static bool BelowKeeper(ServiceActor actor, int pid)
    {
        if (actor.KeeperPid == 0)
            return false;
        for (var (at, depth) = (pid, 0); at > 1 && depth < 256; at = ProcessFacts.Parent(at), depth++)
            if (at == actor.KeeperPid)
                return true;
        return false;
    }
}
