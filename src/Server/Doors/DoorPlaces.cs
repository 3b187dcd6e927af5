using System.Globalization;
using System.Net;
using System.Net.Sockets;
using CalmSentry.Contract;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Self;

namespace CalmSentry.Server.Doors;

/// <summary>
/// Where the doors are: sockets as files, and the console's port, which a guard holds while the server is away.
/// </summary>
internal sealed class DoorPlaces(Places places, SayDoors says)
{
    /// <summary>
    /// How many may have connected that are not taken yet: a thousand services are begun at once by a client that asks for
    /// each. The kernel keeps it below its own limit (net.core.somaxconn, listen(2)).
    /// </summary>
    private const int Backlog = 4096;

    private Socket? console;

    public string Api => places.ApiSocket;

    public string Root => places.RootSocket;

    public SayDoors Says => says;

    /// <summary>
    /// Takes the console's port before anything else listens: the one the guard held meanwhile, else the one wanted. A
    /// console
    /// that cannot be served must not keep a machine's services down: unless its port was asked for, another is taken,
    /// or none.
    /// </summary>
    /// <returns>The port to listen on, null for none; and what is wrong with it, in words.</returns>
    /// <exception cref="SocketException">The port was asked for and is not to be had.</exception>
    public (int? Port, string? Trouble) TakePort(int wanted, bool asked)
    {
        console = Handed(wanted);
        if (console is not null)
            return (PortOf(console), null);
        try
        {
            console = TcpListener(wanted);
            return (PortOf(console), null);
        }
        catch (SocketException error) when (!asked)
        {
            if (error.SocketErrorCode != SocketError.AddressAlreadyInUse)
                return (
                    null,
                    $"There is no console: 127.0.0.1:{wanted} cannot be listened on ({error.Message}). Services "
                        + $"and calm are not affected."
                );
            console = TcpListener(0);
            return (
                PortOf(console),
                $"The console's port {wanted} is taken; it is served on another one, which 'calm open' knows. Set "
                    + $"a free one in the settings."
            );
        }
    }

    public Socket ConsoleListener(IPEndPoint port) => console ?? TcpListener(port.Port);

    /// <summary>
    /// Has the guard, if there is one, hold the console's port too: nobody else gets it while the server is away.
    /// </summary>
    public void GiveToGuard()
    {
        if (console is null || GuardWatch.Alive(places) is not { } guard)
            return;
        try
        {
            File.WriteAllText(
                places.HeldPort,
                string.Create(CultureInfo.InvariantCulture, $"{Environment.ProcessId} {console.Handle}\n")
            );
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return; // no room: the port is not held while a server falls, and that is all
        }

        const int user = 10;
        ProcessFacts.Signal(guard, user);
    }

    /// <summary>A listening Unix socket whose rights are set before anybody can connect.</summary>
    public static Socket UnixListener(string path, int mode)
    {
        File.Delete(path);
        var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        try
        {
            socket.Bind(new UnixDomainSocketEndPoint(path));
            File.SetUnixFileMode(path, (UnixFileMode)mode);
            socket.Listen(Backlog);
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    private static Socket TcpListener(int port)
    {
        var socket = new Socket(AddressFamily.InterNetwork, SocketType.Stream, ProtocolType.Tcp);
        try
        {
            socket.Bind(new IPEndPoint(IPAddress.Loopback, port));
            socket.Listen(Backlog);
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    /// <summary>The listening socket that the guard handed on, if it is on the port wanted.</summary>
    private static Socket? Handed(int wanted)
    {
        if (
            !int.TryParse(
                Environment.GetEnvironmentVariable(GuardWatch.HandedPort),
                NumberStyles.None,
                CultureInfo.InvariantCulture,
                out var descriptor
            )
        )
            return null;
        Descriptors.KeepFromChildren(descriptor);
        try
        {
            var socket = new Socket(new SafeSocketHandle(descriptor, ownsHandle: true));
            if (socket.LocalEndPoint is IPEndPoint { Port: var port } && (wanted == 0 || wanted == port))
                return socket;
            socket.Dispose();
        }
        catch (Exception error) when (error is SocketException or ArgumentException)
        {
            // It is no listening socket any more.
        }

        return null;
    }

    private static int PortOf(Socket socket) => ((IPEndPoint)socket.LocalEndPoint!).Port;
}
