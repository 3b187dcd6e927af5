using System.Net;
using System.Net.Sockets;
using System.Threading.Channels;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Server.Kestrel.Transport.Sockets;

namespace CalmSentry.Server.Doors;

/// <summary>
/// Takes connections for the web server: at the client's socket, at each service's own, and at the console's port. Who
/// is at
/// the other end is asked of the kernel as the connection is made; what is over a limit is refused at once.
/// </summary>
internal sealed class DoorTransport(DoorPlaces places, ILogger<DoorTransport> log)
    : IConnectionListenerFactory,
        IAsyncDisposable
{
    private readonly SocketConnectionContextFactory factory = new(new SocketConnectionFactoryOptions(), log);
    private readonly Crowd crowd = new(Room());
    private readonly Pace knocks = new();

    /// <summary>Strangers that are taken in a second, and at once: none of them may ask for anything.</summary>
    private const int Strangers = 200,
        StrangersAtOnce = 2000;

    private static readonly TimeSpan Breath = TimeSpan.FromMilliseconds(25);

    public ValueTask<IConnectionListener> BindAsync(EndPoint endpoint, CancellationToken cancellationToken = default)
    {
        Listener listener = endpoint switch
        {
            IPEndPoint port => new(this, port, DoorKind.Console, places.ConsoleListener(port)),
            UnixDomainSocketEndPoint path when path.ToString() == places.Api => new(
                this,
                endpoint,
                DoorKind.Api,
                DoorPlaces.UnixListener(places.Api, 0b110_110_110)
            ), // anyone may knock: the kernel says who it is
            UnixDomainSocketEndPoint path when path.ToString() == places.Root => new(
                this,
                endpoint,
                DoorKind.Api,
                DoorPlaces.UnixListener(places.Root, 0b110_000_000)
            ),
            _ => new(this, endpoint, DoorKind.Say, null),
        };
        if (listener.Door == DoorKind.Say)
            places.Says.Connections = listener;
        return ValueTask.FromResult<IConnectionListener>(listener);
    }

    public ValueTask DisposeAsync()
    {
        factory.Dispose();
        return ValueTask.CompletedTask;
    }

    /// <summary>A quarter of the descriptors this process may have, the rest being needed for services.</summary>
    private static int Room() => (int)Math.Clamp(Linux.Processes.ProcessFacts.OwnOpenFilesLimit() / 4, 16, 512);

    /// <summary>One door's connections as they come.</summary>
    internal sealed class Listener : IConnectionListener
    {
        private readonly DoorTransport transport;
        private readonly Socket? socket;
        private readonly CancellationTokenSource closed = new();

        /// <summary>
        /// Of services' own sockets, of which there are many, the connections come in one after another here.
        /// </summary>
        private readonly Channel<(Socket Socket, DoorWord Word)> told = Channel.CreateBounded<(Socket, DoorWord)>(256);

        public Listener(DoorTransport transport, EndPoint endpoint, DoorKind door, Socket? socket)
        {
            (this.transport, Door, this.socket) = (transport, door, socket);
            EndPoint = socket?.LocalEndPoint is IPEndPoint bound ? bound : endpoint;
        }

        public DoorKind Door { get; }

        public EndPoint EndPoint { get; }

        /// <summary>
        /// A connection to a service's own socket, judged already. False when there is no room for it.
        /// </summary>
        public bool Take(Socket connection, DoorWord word) => told.Writer.TryWrite((connection, word));

        public async ValueTask<ConnectionContext?> AcceptAsync(CancellationToken cancellationToken = default)
        {
            while (true)
            {
                var (connection, told) = await Next().ConfigureAwait(false);
                if (connection is null)
                    return null;
                // Who is one too many costs no more than that: nothing is looked up for it.
                var peer = Door == DoorKind.Api ? PeerCredentials.Of(connection) : null;
                var uid = peer?.Uid ?? told?.Uid ?? uint.MaxValue;
                if (Door == DoorKind.Api && await IsCrowded(uid).ConfigureAwait(false) || !transport.crowd.Enter(uid))
                {
                    Refusal.Full.Send(connection);
                    told?.Ended?.Invoke();
                    continue;
                }

                var word = told ?? WordOf(connection, peer);
                try
                {
                    var context = transport.factory.Create(connection);
                    context.Features.Set(word);
                    context.ConnectionClosed.UnsafeRegister(
                        _ =>
                        {
                            transport.crowd.Leave(uid);
                            word.Ended?.Invoke();
                        },
                        null
                    );
                    return context;
                }
                catch (Exception error) when (error is SocketException or ObjectDisposedException)
                {
                    transport.crowd.Leave(uid); // gone before it began
                    word.Ended?.Invoke();
                    connection.Dispose();
                }
            }
        }

        public ValueTask UnbindAsync(CancellationToken cancellationToken = default)
        {
            closed.Cancel();
            told.Writer.TryComplete();
            socket?.Dispose();
            return ValueTask.CompletedTask;
        }

        public async ValueTask DisposeAsync()
        {
            await UnbindAsync().ConfigureAwait(false);
            closed.Dispose();
        }

        private async Task<(Socket? Connection, DoorWord? Word)> Next()
        {
            while (!closed.IsCancellationRequested)
            {
                try
                {
                    if (socket is null)
                        return await told.Reader.ReadAsync(closed.Token).ConfigureAwait(false);
                    return (await socket.AcceptAsync(closed.Token).ConfigureAwait(false), null);
                }
                catch (SocketException error) when (!closed.IsCancellationRequested)
                {
                    // Out of descriptors, or a client gone before it was taken: the door itself stays.
                    if (error.SocketErrorCode is SocketError.TooManyOpenSockets or SocketError.NoBufferSpaceAvailable)
                        await Task.Delay(100).ConfigureAwait(false);
                }
                catch (Exception error)
                    when (error
                            is OperationCanceledException
                                or ObjectDisposedException
                                or SocketException
                                or ChannelClosedException
                    )
                {
                    break;
                }
            }

            return (null, null);
        }

        /// <summary>Whoever became another account since it logged in, as with sudo; null: nobody did, or it is gone.</summary>
        private static string? LoginOf(PeerCredentials peer, Socket connection) =>
            ProcessFacts.LoginUser(peer.Pid) is { } login && login != peer.Uid && PeerCredentials.StillThere(connection)
                ? Account.NameOf(login)
                : null;

        private static string? TerminalOf(PeerCredentials peer, Socket connection) =>
            ProcessFacts.Terminal(peer.Pid) is { } terminal && PeerCredentials.StillThere(connection)
                ? LoggedIn.HostOf(terminal) is { } host
                    ? $"{terminal}, {host}"
                    : terminal
                : null;

        /// <summary>
        /// Whoever may ask for nothing knocks more often than is borne: after it nobody is taken for a moment, and the kernel lets knockers
        /// wait. Root comes in by another door.
        /// </summary>
        private async ValueTask<bool> IsCrowded(uint uid)
        {
            if (Account.IsTrusted(uid) || transport.knocks.Take(DoorKind.Api, Strangers, StrangersAtOnce))
                return false;
            await Task.Delay(Breath).ConfigureAwait(false);
            return true;
        }

        private DoorWord WordOf(Socket connection, PeerCredentials? peer)
        {
            if (Door == DoorKind.Api)
                return peer is { } known
                    ? new(
                        Door,
                        known.Uid,
                        Account.NameOf(known.Uid),
                        Login: LoginOf(known, connection),
                        From: TerminalOf(known, connection)
                    )
                    : new(Door, null, "somebody");
            connection.NoDelay = true;
            return new(
                Door,
                connection is { LocalEndPoint: IPEndPoint here, RemoteEndPoint: IPEndPoint there }
                    ? TcpPeer.UidOf(here, there)
                    : null,
                "a browser"
            );
        }
    }
}
