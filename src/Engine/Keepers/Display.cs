using System.Globalization;
using System.Net.Sockets;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Engine.Keepers;

/// <summary>One display that runs, or did.</summary>
internal sealed class Display(KeeperLink link, RunSite site, string sockets, Account account, RunTools tools)
    : Companion(link, site, [account.Uid], tools)
{
    /// <summary>The socket at which it says what it shows, in its folder.</summary>
    public const string FrameSocket = "rfb";

    /// <summary>The folder that is seen in the place of the host's.</summary>
    public string Sockets => sockets;

    /// <summary>The window manager that runs on it; null: none.</summary>
    public Companion? Manager { get; set; }

    /// <summary>How it, or its manager, ended, as a clause; null: neither has.</summary>
    public string? Fell => Over ?? (Manager?.Over is { } manager ? $"its window manager: {manager}" : null);

    /// <summary>Which display it is on its host; less than 0 before it is ready.</summary>
    public int Number { get; private set; } = NotYet;

    private const int NotYet = -1,
        MostEntries = 100;

    /// <summary>Whether it can be used: it has its number, and answers.</summary>
    public bool IsReady()
    {
        try
        {
            Number = Directory
                .EnumerateFileSystemEntries(sockets, "X*")
                .Take(MostEntries) // the folder is the account's
                .Select(path => Path.GetFileName(path)[1..])
                .Select(text =>
                    int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var one) ? one : NotYet
                )
                .FirstOrDefault(one => one >= 0, NotYet);
            if (Number == NotYet)
                return false;
            using var frame = Connect();
            return true;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or SocketException)
        {
            return false;
        }
    }

    /// <summary>
    /// A connection to what it shows. The folder is the account's to change: who answers must be the account, so that it is nothing
    /// but what the account could show anyway.
    /// </summary>
    /// <exception cref="SocketException">It is not there, or not the account's.</exception>
    public Socket Connect()
    {
        return Connect(FrameSocket);
    }

    /// <summary>A connection to it as its programs have one, under the same rule.</summary>
    /// <exception cref="SocketException">It is not there, or not the account's.</exception>
    public Socket ConnectAsProgram() => Connect($"X{Number}");

    private Socket Connect(string name)
    {
        var socket = UnixConnection.Connect(sockets, name, followsLinks: false);
        if (PeerCredentials.Of(socket)?.Uid == account.Uid)
            return socket;
        socket.Dispose();
        throw new SocketException((int)SocketError.AccessDenied);
    }
}
