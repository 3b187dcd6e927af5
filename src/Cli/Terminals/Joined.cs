using System.Diagnostics;
using System.Net.WebSockets;
using System.Runtime.InteropServices;
using System.Text;
using System.Text.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Contract.Terminals;

namespace CalmSentry.Cli.Terminals;

/// <summary>
/// The caller's terminal, showing that of a service until it is left. Where the sentry goes away it waits for the next, and goes on
/// where it was.
/// </summary>
internal sealed class Joined(SentryClient client, string service, bool watches, Recording? recording) : IDisposable
{
    private const byte LeaveKey = 0x11; // Ctrl-Q

    private static readonly TimeSpan Twice = TimeSpan.FromSeconds(1),
        Beat = TimeSpan.FromMilliseconds(200),
        ToldAfter = TimeSpan.FromSeconds(1),
        GivenUpAfter = TimeSpan.FromMinutes(10);

    private readonly CodeFilter inside = new(CodeFilter.StaysInside, OwnBytes());
    private readonly CancellationTokenSource left = new();
    private volatile WebSocket? line;
    private readonly SemaphoreSlim sending = new(1);
    private (long Run, long Place)? seen;
    private bool isLive,
        mayType = !watches,
        types;

    /// <summary>How it ended: somebody left it.</summary>
    /// <exception cref="Failure">It could not be joined, or not any more.</exception>
    public async Task Show(bool takeOver, CancellationToken cancellation)
    {
        using var over = CancellationTokenSource.CreateLinkedTokenSource(cancellation, left.Token);
        using var keyboard = Keyboard.Take();
        using var resized = PosixSignalRegistration.Create(PosixSignal.SIGWINCH, _ => SayWindow());
        new Thread(ReadKeys) { IsBackground = true }.Start();
        // What was on the screen stays readable above it.
        Write(Encoding.ASCII.GetBytes(new string('\n', Math.Clamp(Terminal.Size().Rows, 1, 1000))));
        try
        {
            var away = Stopwatch.GetTimestamp();
            var told = false;
            while (true)
            {
                try
                {
                    using var socket = await client
                        .JoinTerminal(service, watches: !mayType, told ? null : seen, over.Token)
                        .ConfigureAwait(false);
                    line = socket;
                    if (takeOver)
                        await Wish(new() { Type = true }).ConfigureAwait(false);
                    takeOver = false;
                    await SayWindowNow().ConfigureAwait(false);
                    told = false;
                    await See(socket, over.Token).ConfigureAwait(false);
                }
                catch (Failure gone) when (gone.ExitCode == Exit.Unreachable) { }
                catch (Exception error)
                    when (error is WebSocketException or IOException && !over.IsCancellationRequested) { }

                if (line is not null)
                    away = Stopwatch.GetTimestamp();
                line = null;
                if (!told && Stopwatch.GetElapsedTime(away) > ToldAfter)
                {
                    Say("The sentry is away; the program goes on. This comes back by itself.");
                    (told, isLive) = (true, false);
                }

                if (Stopwatch.GetElapsedTime(away) > GivenUpAfter)
                    throw SentryClient.WentAway("the program goes on");
                await Task.Delay(Beat, over.Token).ConfigureAwait(false);
            }
        }
        catch (OperationCanceledException) when (left.IsCancellationRequested)
        {
            // That is how it ends.
        }
        finally
        {
            Write(CodeFilter.Afterwards);
            Write(Encoding.ASCII.GetBytes($"\u001b[{Math.Clamp(Terminal.Size().Rows, 1, 1000)};1H\r\n"));
        }
    }

    // What is shown

    private async Task See(WebSocket socket, CancellationToken gone)
    {
        var room = new byte[1 << 16];
        while (true)
        {
            var length = 0;
            ValueWebSocketReceiveResult got;
            do
            {
                got = await socket.ReceiveAsync(room.AsMemory(length), gone).ConfigureAwait(false);
                if (got.MessageType == WebSocketMessageType.Close)
                    throw new WebSocketException(WebSocketError.ConnectionClosedPrematurely);
                length += got.Count;
                if (got.MessageType == WebSocketMessageType.Binary)
                {
                    Show(room.AsSpan(0, length));
                    length = 0;
                }
            } while (!got.EndOfMessage && length < room.Length);
            if (
                got.MessageType == WebSocketMessageType.Text
                && JsonSerializer.Deserialize(room.AsSpan(0, length), ApiJson.Default.TerminalNews) is { } news
            )
                Hear(news);
        }
    }

    private void Show(ReadOnlySpan<byte> bytes)
    {
        if (isLive && seen is { } before)
            seen = (before.Run, before.Place + bytes.Length);
        var shown = inside.Through(bytes).Span;
        Write(shown);
        recording?.Shown(shown);
    }

    private void Hear(TerminalNews news)
    {
        switch (news.Is)
        {
            case TerminalNews.Begins:
                (seen, isLive) = ((news.Run ?? 0, news.Place ?? 0), false);
                Write(CodeFilter.Afterwards);
                Write("\u001b[2J\u001b[H"u8);
                recording?.Size(news.Columns ?? 80, news.Rows ?? 24);
                recording?.Shown("\u001b[!p\u001b[2J\u001b[H"u8);
                if (news.LeftOut > 0)
                    Show(
                        Encoding.ASCII.GetBytes(
                            $"[calm: {news.LeftOut} bytes are not shown, this window was too slow]\r\n"
                        )
                    );
                break;
            case TerminalNews.IsLive:
                seen = (seen?.Run ?? 0, news.Place ?? 0);
                isLive = true;
                break;
            case TerminalNews.Resized:
                recording?.Size(news.Columns ?? 80, news.Rows ?? 24);
                break;
            case TerminalNews.There:
                if (types && news.YouType == false && news.TypedBy is { } other)
                    Say($"{other} types now; you only see.");
                types = news.YouType == true;
                break;
            case TerminalNews.Waits:
                (seen, isLive) = (null, false);
                Say($"{news.Why} Ctrl-Q twice leaves.");
                break;
        }
    }

    /// <summary>A word of calm's own, where the cursor is.</summary>
    private static void Say(string text) =>
        Write(Encoding.UTF8.GetBytes($"\r\n\u001b[0;7m[calm: {text}]\u001b[0m\r\n"));

    private static void Write(ReadOnlySpan<byte> bytes) => Terminal.Raw(bytes);

    // What is said

    private void ReadKeys()
    {
        var room = new byte[4096];
        var lastLeave = 0L;
        while (!left.IsCancellationRequested)
        {
            var got = Keyboard.Read(room);
            var now = Stopwatch.GetTimestamp();
            var leaves =
                got == 0
                || room.AsSpan(0, got).SequenceEqual([LeaveKey, LeaveKey])
                || (
                    got == 1 && room[0] == LeaveKey && lastLeave > 0 && Stopwatch.GetElapsedTime(lastLeave, now) < Twice
                );
            lastLeave = got == 1 && room[0] == LeaveKey ? now : 0;
            if (leaves)
            {
                left.Cancel();
                return;
            }

            if (mayType && types)
                Send(room.AsMemory(0, got), WebSocketMessageType.Binary).GetAwaiter().GetResult();
        }
    }

    private void SayWindow() => _ = SayWindowNow();

    private Task SayWindowNow()
    {
        var (columns, rows) = Terminal.Size();
        return columns > 0 ? Wish(new() { Columns = columns, Rows = rows }) : Task.CompletedTask;
    }

    private Task Wish(TerminalWish wish) =>
        Send(JsonSerializer.SerializeToUtf8Bytes(wish, ApiJson.Default.TerminalWish), WebSocketMessageType.Text);

    private async Task Send(ReadOnlyMemory<byte> bytes, WebSocketMessageType type)
    {
        await sending.WaitAsync().ConfigureAwait(false);
        try
        {
            if (line is { State: WebSocketState.Open } to)
                await to.SendAsync(bytes, type, endOfMessage: true, left.Token).ConfigureAwait(false);
        }
        catch (Exception error)
            when (error is WebSocketException or OperationCanceledException or IOException or ObjectDisposedException)
        {
            // It has gone: what is typed into nothing is not kept.
        }
        finally
        {
            sending.Release();
        }
    }

    public void Dispose()
    {
        left.Dispose();
        sending.Dispose();
    }

    /// <summary>The first of these that is set decides.</summary>
    private static readonly string[] LocaleVariables = ["LC_ALL", "LC_CTYPE", "LANG"];

    /// <summary>
    /// By the locale (locale(7)) whether this terminal reads UTF-8: one that says another character set obeys bytes that are part of a
    /// character elsewhere.
    /// </summary>
    private static EightBits OwnBytes()
    {
        var locale = LocaleVariables
            .Select(Environment.GetEnvironmentVariable)
            .FirstOrDefault(value => !string.IsNullOrEmpty(value));
        return
            locale is null or "C" or "POSIX"
            || locale.Contains("UTF-8", StringComparison.OrdinalIgnoreCase)
            || locale.Contains("utf8", StringComparison.OrdinalIgnoreCase)
            ? EightBits.InCharacters
            : EightBits.Never;
    }
}
