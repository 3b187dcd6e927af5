using System.Net.Sockets;
using System.Net.WebSockets;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Contract.Keeper;
using CalmSentry.Contract.Terminals;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Terminals;

namespace CalmSentry.Server.Terminals;

/// <param name="MayType">It was let in to type.</param>
/// <param name="Acknowledges">It says what it has shown.</param>
internal sealed record Viewing(bool MayType, bool Acknowledges);

/// <summary>One viewer's WebSocket, and the keeper's line behind it. Nothing waits here for a viewer but the viewer's own line.</summary>
internal sealed class TerminalView(WebSocket socket, Seat seat, TerminalRoom room, Viewing viewing, Clocks clocks)
    : IDisposable
{
    private const int LongestMessage = 64 << 10,
        MostUnseen = 1 << 20;

    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(300),
        Nudge = TimeSpan.FromMilliseconds(100);

    private readonly SemaphoreSlim sending = new(1);
    private readonly Bell shown = new(clocks);
    private long shownTo;
    private TerminalLink? link;
    private (long Run, long Place)? seen;

    /// <summary>Until the viewer leaves, or may not see it any more.</summary>
    /// <param name="from">Where an earlier view of it ended.</param>
    /// <param name="may">It still may.</param>
    public async Task Show((long? Run, long? Place) from, Func<bool> may, CancellationTokenSource over)
    {
        if (from is { Run: { } run, Place: { } place })
            seen = (run, place);
        Task[] all = [Hear(over.Token), TellWhoIsThere(over.Token), See(over.Token), Until(may, over.Token)];
        await Views.WhenAny(all, socket, over).ConfigureAwait(false);
    }

    private async Task Until(Func<bool> may, CancellationToken gone)
    {
        while (may())
            await clocks.Delay(Look, gone).ConfigureAwait(false);
    }

    // What it says

    private async Task Hear(CancellationToken gone)
    {
        var room = new byte[LongestMessage];
        while (true)
        {
            var length = 0;
            ValueWebSocketReceiveResult got;
            do
            {
                got = await socket.ReceiveAsync(room.AsMemory(length), gone).ConfigureAwait(false);
                length += got.Count;
                if (got.MessageType == WebSocketMessageType.Close)
                    return;
                // Keys are handed on as they come; a text must be whole.
                if (got.MessageType == WebSocketMessageType.Binary)
                {
                    await Type(room.AsMemory(0, length), gone).ConfigureAwait(false);
                    length = 0;
                }
                else if (length == room.Length)
                    return;
            } while (!got.EndOfMessage);
            if (got.MessageType == WebSocketMessageType.Text && !Obey(room.AsSpan(0, length)))
                return;
        }
    }

    private async Task Type(ReadOnlyMemory<byte> keys, CancellationToken gone)
    {
        if (!viewing.MayType || !seat.Acts || keys.IsEmpty || link is not { } to)
            return;
        room.Acting(seat);
        try
        {
            await to.Type(keys, gone).ConfigureAwait(false);
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException)
        {
            // Its run has ended: nobody is there to take them.
        }
    }

    private bool Obey(ReadOnlySpan<byte> text)
    {
        TerminalWish? wish;
        try
        {
            wish = JsonSerializer.Deserialize(text, ApiJson.Plain.TerminalWish);
        }
        catch (JsonException)
        {
            return false;
        }

        if (wish is { Type: true } && viewing.MayType)
            room.TakeOver(seat);
        else if (wish is { Type: false })
            room.LetGo(seat);
        if (wish is { Columns: > 0 and var columns, Rows: > 0 and var rows })
            room.Resized(seat, new(columns, rows));
        if (wish is { Seen: { } to })
        {
            Volatile.Write(ref shownTo, to);
            shown.Ring();
        }

        return true;
    }

    // What it is told

    private async Task TellWhoIsThere(CancellationToken gone)
    {
        (bool, string?, int)? told = null;
        while (true)
        {
            var (typedBy, viewers, size) = room.At(seat.Service);
            if (told != (seat.Acts, typedBy, viewers))
                await Say(
                        new()
                        {
                            Is = TerminalNews.There,
                            YouType = seat.Acts,
                            TypedBy = typedBy,
                            Viewers = viewers,
                        },
                        gone
                    )
                    .ConfigureAwait(false);
            told = (seat.Acts, typedBy, viewers);
            await Resize(size, gone).ConfigureAwait(false);
            await seat.Changed.Heard(Look, gone).ConfigureAwait(false);
        }
    }

    /// <summary>The one who types brings the size about; where nobody does, all do.</summary>
    private async Task Resize(TerminalSize? size, CancellationToken gone)
    {
        if (size is not { } wanted || link is not { } to || (room.At(seat.Service).Types is not null && !seat.Acts))
            return;
        try
        {
            await to.Resize(wanted, gone).ConfigureAwait(false);
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException)
        {
            // Its run has ended.
        }
    }

    private async Task See(CancellationToken gone)
    {
        string? waits = null;
        while (true)
        {
            var run = seat.Service.Situation.Run?.Number.Value;
            if (run is { } live && TerminalLink.Find(seat.Service.RunDirectory) is { } found)
            {
                using (found)
                    if (await See(found, live, gone).ConfigureAwait(false))
                        waits = null;
                link = null;
            }

            var why = WhyNot();
            if (why != waits)
                await Say(new() { Is = TerminalNews.Waits, Why = why }, gone).ConfigureAwait(false);
            waits = why;
            await clocks.Delay(Look, gone).ConfigureAwait(false);
        }
    }

    private string WhyNot() =>
        seat.Service.Situation is { Run: not null, Phase: Core.Lifecycle.Phase.Running }
            ? $"Its run has no terminal that can be joined: it began before that was set. 'calm restart {seat.Service.Definition.Name}' gives it one."
            : $"{seat.Service.Definition.Name} is {Core.Text.Words.Of(seat.Service.Situation.Phase)}; its next run is shown here.";

    /// <returns>Whether there was anything.</returns>
    private async Task<bool> See(TerminalLink from, long run, CancellationToken gone)
    {
        try
        {
            await from.Join(seen is { } before && before.Run == run ? before.Place : null, gone).ConfigureAwait(false);
        }
        catch (SocketException)
        {
            return false;
        }

        link = from;
        var (place, until, any) = (0L, 0L, false);
        CodeFilter? again = null; // what it wrote before is only shown once more: nobody answers to it
        while (await from.Next(gone).ConfigureAwait(false) is var (word, body))
        {
            any = true;
            switch (word)
            {
                case ViewerWord.Begins:
                    var begins = ViewBegins.Read(body.Span);
                    (place, until, again) = (begins.Place, begins.Until, new(CodeFilter.AsksNothing));
                    var goesOn = seen is { } last && last == (run, place) && begins.LeftOut == 0;
                    if (!goesOn)
                        await Say(
                                new()
                                {
                                    Is = TerminalNews.Begins,
                                    Place = place,
                                    LeftOut = begins.LeftOut,
                                    Columns = begins.Size.Columns,
                                    Rows = begins.Size.Rows,
                                    Run = run,
                                },
                                gone
                            )
                            .ConfigureAwait(false);
                    await Send(again.Through(body.Span[ViewBegins.Length..]), gone).ConfigureAwait(false);
                    if (!goesOn && place > 0)
                        _ = clocks.Run(() => DrawAnew(from, begins.Size, gone));
                    if (place >= until)
                        again = await Live(place, gone).ConfigureAwait(false);
                    break;
                case ViewerWord.Wrote:
                    while (viewing.Acknowledges && again is null && place - Volatile.Read(ref shownTo) > MostUnseen)
                        await shown.Heard(Look, gone).ConfigureAwait(false);
                    var old = again is null ? 0 : (int)Math.Min(body.Length, until - place);
                    if (old > 0)
                    {
                        await Send(again!.Through(body.Span[..old]), gone).ConfigureAwait(false);
                        place += old;
                        if (place >= until)
                            again = await Live(place, gone).ConfigureAwait(false);
                    }

                    await Send(body[old..], gone).ConfigureAwait(false);
                    place += body.Length - old;
                    if (again is null)
                        seen = (run, place);
                    break;
                case ViewerWord.Resized:
                    var size = TerminalSize.Read(body.Span);
                    await Say(
                            new()
                            {
                                Is = TerminalNews.Resized,
                                Columns = size.Columns,
                                Rows = size.Rows,
                            },
                            gone
                        )
                        .ConfigureAwait(false);
                    break;
            }
        }

        return any;
    }

    private async Task<CodeFilter?> Live(long place, CancellationToken gone)
    {
        Volatile.Write(ref shownTo, place);
        await Say(new() { Is = TerminalNews.IsLive, Place = place }, gone).ConfigureAwait(false);
        return null;
    }

    /// <summary>Of what it drew long ago nothing is kept: a program that hears of another size draws all of it anew.</summary>
    private async Task DrawAnew(TerminalLink on, TerminalSize size, CancellationToken gone)
    {
        try
        {
            await on.Resize(size with { Rows = size.Rows - 1 }, gone).ConfigureAwait(false);
            await clocks.Delay(Nudge, gone).ConfigureAwait(false);
            await on.Resize(size, gone).ConfigureAwait(false);
        }
        catch (Exception error) when (error is SocketException or ObjectDisposedException or OperationCanceledException)
        {
            // It has gone meanwhile.
        }
    }

    private Task Say(TerminalNews news, CancellationToken gone) =>
        Send(JsonSerializer.SerializeToUtf8Bytes(news, ApiJson.Plain.TerminalNews), gone, WebSocketMessageType.Text);

    private async Task Send(
        ReadOnlyMemory<byte> bytes,
        CancellationToken gone,
        WebSocketMessageType type = WebSocketMessageType.Binary
    )
    {
        if (bytes.IsEmpty)
            return;
        await sending.WaitAsync(gone).ConfigureAwait(false);
        try
        {
            await socket.SendAsync(bytes, type, endOfMessage: true, gone).ConfigureAwait(false);
        }
        finally
        {
            sending.Release();
        }
    }

    public void Dispose() => sending.Dispose();
}
