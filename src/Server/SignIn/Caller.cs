using CalmSentry.Linux.Sockets;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Connections.Features;

namespace CalmSentry.Server.SignIn;

/// <summary>Who is asking: an account by the kernel's word, or the account a browser was signed in for.</summary>
internal sealed record Caller(string Account, bool ByConsole, bool MayAct)
{
    /// <summary>As the logbook has it.</summary>
    public string Name => ByConsole ? $"{Account} (console)" : Account;

    public static Caller Of(HttpContext context) => (Caller)context.Items[typeof(Caller)]!;

    public void AttachTo(HttpContext context) => context.Items[typeof(Caller)] = this;

    /// <summary>Asks the kernel once a connection, and keeps the answer with it.</summary>
    public static ConnectionDelegate AskKernel(ConnectionDelegate next) => connection =>
    {
        if (connection.Features.Get<IConnectionSocketFeature>()?.Socket is { } socket && PeerCredentials.Of(socket) is { } peer)
            connection.Features.Set(new KernelWord(
                Linux.Accounts.Account.NameOf(peer.Uid), peer.Uid == 0 || peer.Uid == Linux.Accounts.Account.OwnId, peer.Pid, (socket.LocalEndPoint as System.Net.Sockets.UnixDomainSocketEndPoint)?.ToString()));
        return next(connection);
    };

    public static Caller? ByKernel(HttpContext context) =>
        context.Features.Get<KernelWord>() is { } word ? new(word.Account, ByConsole: false, word.MayAct) : null;

    internal sealed record KernelWord(string Account, bool MayAct, int Pid, string? Socket);
}
