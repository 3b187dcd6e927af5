using System.Net.Sockets;
using System.Net.WebSockets;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Terminals;
using CalmSentry.Server.Terminals;

namespace CalmSentry.Server.Windows;

/// <summary>One viewer's WebSocket, and its own line to the display behind it: bytes of the remote framebuffer protocol (RFC 6143).</summary>
internal sealed class WindowView(
    WebSocket socket,
    Socket display,
    Seat seat,
    WindowRoom room,
    bool mayAct,
    Clocks clocks
)
{
    private const int Piece = 64 << 10;

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(300);

    /// <summary>Until the viewer leaves, may not see it any more, or the display is gone.</summary>
    public async Task Show(Func<bool> may, CancellationTokenSource over)
    {
        await using var line = new NetworkStream(display, ownsSocket: false);
        Task[] all = [Hear(line, over.Token), See(line, over.Token), Until(may, over.Token)];
        await Views.WhenAny(all, socket, over).ConfigureAwait(false);
    }

    private async Task Until(Func<bool> may, CancellationToken gone)
    {
        for (var acted = false; may(); acted |= seat.Acts)
        {
            // Another has taken over: it comes again to see, and is told who acts.
            if (acted && !seat.Acts)
                return;
            await clocks.Delay(Look, gone).ConfigureAwait(false);
        }
    }

    /// <summary>What the viewer sends; a display that reads nothing makes the viewer wait.</summary>
    private async Task Hear(NetworkStream line, CancellationToken gone)
    {
        var gate = new FrameGate(() => mayAct && seat.Acts, () => room.Acting(seat));
        var piece = new byte[Piece];
        while (true)
        {
            var got = await socket.ReceiveAsync(piece.AsMemory(), gone).ConfigureAwait(false);
            if (got.MessageType != WebSocketMessageType.Binary)
                return;
            if (gate.Through(piece.AsSpan(0, got.Count)) is not { } through)
                return;
            if (through.Length > 0)
                await line.WriteAsync(through, gone).ConfigureAwait(false);
        }
    }

    /// <summary>What the display shows; a viewer that reads nothing makes its own line wait, and no other.</summary>
    private async Task See(NetworkStream line, CancellationToken gone)
    {
        var piece = new byte[Piece];
        while (await line.ReadAsync(piece, gone).ConfigureAwait(false) is > 0 and var got)
            await socket
                .SendAsync(piece.AsMemory(0, got), WebSocketMessageType.Binary, endOfMessage: true, gone)
                .ConfigureAwait(false);
    }
}
