using System.Globalization;
using System.Net.Sockets;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Runs;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Engine.Keepers;

/// <summary>One display that runs, or did.</summary>
internal sealed class Display(KeeperLink link, RunSite site, string sockets, Account account, RunTools tools)
{
    /// <summary>The socket at which it says what it shows, in its folder.</summary>
    public const string FrameSocket = "rfb";

    private readonly TaskCompletionSource gone = new(TaskCreationOptions.RunContinuationsAsynchronously);

    public RunSite Site => site;

    /// <summary>The folder that is seen in the place of the host's.</summary>
    public string Sockets => sockets;

    /// <summary>Which display it is on its host; less than 0 before it is ready.</summary>
    public int Number { get; private set; } = NotYet;

    private const int NotYet = -1,
        MostEntries = 100;

    /// <summary>Completes when nothing of it is left.</summary>
    public Task Gone => gone.Task;

    /// <summary>How it ended, as a clause; null: it has not.</summary>
    public string? Over { get; private set; }

    /// <summary>Hears of it until it is gone.</summary>
    public async Task Hear(Action fell)
    {
        while (await link.Next() is var (word, body))
        {
            if (word is not (KeeperWord.TreeEnded or KeeperWord.NeverLaunched or KeeperWord.MainEnded))
                continue;
            Over ??=
                word == KeeperWord.NeverLaunched
                    ? $"step {(LaunchStep)Message.Number(body, "step")} failed ({Linux.Native.Names.Errno((int)Message.Number(body, "errno"))})"
                    : $"it {OutcomeWords.Of(Remains.Read(body))}{Said()}";
            if (word == KeeperWord.MainEnded)
                link.Send(new Message(KeeperWord.EndTree));
            else
                link.Send(new Message(KeeperWord.Leave));
        }

        Over ??= "its keeper is gone";
        await link.Buried();
        await Remains.End(site, tools.Places, tools.Groups);
        gone.TrySetResult();
        fell();
    }

    /// <summary>What it said last.</summary>
    private string Said()
    {
        try
        {
            var last = File.ReadLines(site.Output).LastOrDefault(line => line.Trim().Length > 1);
            return last is null ? "" : $" ({Core.Text.Shown.Line(last.Trim())})";
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    public void End()
    {
        link.Send(new Message(KeeperWord.Signal).With("number", 15).With("to", "tree"));
        link.Send(new Message(KeeperWord.EndTree));
    }

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
