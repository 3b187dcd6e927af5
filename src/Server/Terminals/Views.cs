using System.Net.Sockets;
using System.Net.WebSockets;

namespace CalmSentry.Server.Terminals;

/// <summary>What all views over a WebSocket have in common.</summary>
internal static class Views
{
    /// <summary>A viewer that does not answer for so long is gone; one that leaves is waited for no longer than that.</summary>
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(15),
        Patience = TimeSpan.FromSeconds(30),
        Farewell = TimeSpan.FromMilliseconds(300);

    public static Task<WebSocket> Accept(HttpContext context) =>
        context.WebSockets.AcceptWebSocketAsync(
            new WebSocketAcceptContext { KeepAliveInterval = Beat, KeepAliveTimeout = Patience }
        );

    /// <summary>Once the first of a view's tasks has ended, so have all, and its socket is closed.</summary>
    public static async Task WhenAny(Task[] all, WebSocket socket, CancellationTokenSource over)
    {
        try
        {
            await (await Task.WhenAny(all).ConfigureAwait(false)).ConfigureAwait(false);
            await socket
                .CloseOutputAsync(WebSocketCloseStatus.NormalClosure, null, over.Token)
                .WaitAsync(Farewell, CancellationToken.None)
                .ConfigureAwait(false);
        }
        catch (Exception error)
            when (error
                    is OperationCanceledException
                        or WebSocketException
                        or TimeoutException
                        or SocketException
                        or IOException
            )
        {
            // It has gone, what it sees is, or the sentry is about to: it comes back by itself.
        }
        finally
        {
            await over.CancelAsync().ConfigureAwait(false);
            socket.Abort();
            await Task.WhenAll(all).ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        }
    }
}
