using System.Net.WebSockets;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace CalmSentry.Tests.EndToEnd.Terminals;

/// <summary>A service's own terminal, joined while it runs: through the real client, at real terminals.</summary>
[Needs("nano", "procps", "python3", "python3-pyte", "vttest")]
public partial class TerminalTests
{
    /// <summary>So often each is joined and left; CALM_MANY=50 for more.</summary>
    private static readonly int Joins = int.TryParse(Environment.GetEnvironmentVariable("CALM_MANY"), out var many)
        ? many
        : 4;

    private const string Size = "80x24";

    private static Task<Said> Wrap(Sentry sentry, string name, params string[] program) =>
        sentry.Wrap(name, ["--terminal", Size, "--environment", "TERM=xterm-256color", "--start", "--", .. program]);

    [Fact]
    public async Task An_editor_joined_and_left_shows_each_time_what_it_shows_at_a_plain_terminal()
    {
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "notes", "/usr/bin/nano", "-I");
        using var plain = Screens.Of(Size, "/usr/bin/nano", "-I");
        plain.Until("GNU nano");
        for (var i = 1; i <= Joins; i++)
        {
            using var joined = Screens.Joining(sentry, Size, "notes");
            joined.Until("GNU nano");
            Screens.AreSame(plain, joined);
            foreach (var keys in (string[])[$"berth {i} taken\r", "\u0007", "\u0018\u001b[B\u001b[A", $"quay {i} £ø\r"])
            {
                foreach (var screen in (Screens[])[plain, joined])
                    screen.Keys(keys.Replace("\u0018", "", StringComparison.Ordinal));
                if (keys == "\u0007")
                {
                    foreach (var screen in (Screens[])[plain, joined])
                    {
                        screen.Until("nano help text");
                        screen.Keys("\u0018"); // out of the help
                        screen.Until($"berth {i} taken");
                    }
                }

                Screens.AreSame(plain, joined);
            }

            joined.Leave();
        }

        Assert.Equal(
            Joins,
            (await sentry.Ok("logbook", "notes", "--last", "1000")).Output.Split("Its terminal was joined.").Length - 1
        );
        Assert.Contains(
            "Keys were typed at its terminal.",
            (await sentry.Ok("logbook", "notes")).Output,
            StringComparison.Ordinal
        );
        Assert.DoesNotContain("berth 1", (await sentry.Ok("logbook", "notes")).Output, StringComparison.Ordinal);
    }

    /// <summary>Figures differ from one moment to the next; all else on it does not.</summary>
    [Fact]
    public async Task A_screen_that_draws_itself_anew_is_the_same_joined_and_plain()
    {
        await using var sentry = await Sentry.Start();
        string[] program = ["/usr/bin/top", "-d", "600", "-p", "1"];
        await Wrap(sentry, "board", program);
        using var plain = Screens.Of(Size, program);
        plain.Until("COMMAND");
        for (var i = 0; i < Joins; i++)
        {
            using var joined = Screens.Joining(sentry, Size, "board");
            joined.Until("COMMAND");
            foreach (
                var (keys, shows) in ((string, string)[])
                    [("h", "Help for Interactive"), ("q", "COMMAND"), ("E", "COMMAND")]
            )
            {
                foreach (var screen in (Screens[])[plain, joined])
                {
                    screen.Keys(keys);
                    screen.Until(shows);
                }

                Screens.AreSame(plain, joined, line => FiguresAndState().Replace(line, " "));
            }

            joined.Leave();
        }
    }

    [GeneratedRegex(@"[\d\s.,:+-]+|\b[RSI]\b")]
    private static partial Regex FiguresAndState();

    [Fact]
    public async Task Test_screens_of_the_terminal_show_the_same_joined_and_plain()
    {
        await using var sentry = await Sentry.Start();
        // It asks what its terminal is: at both it is the emulator that answers.
        string[] program = ["/bin/sh", "-c", "read begin; exec /usr/bin/vttest"];
        await Wrap(sentry, "vt", program);
        using var plain = Screens.Of(Size, program);
        using var joined = Screens.Joining(sentry, Size, "vt");
        // Of its tests some set a width, which a joined terminal does not take from a program.
        joined.Until("\n\n\n");
        foreach (
            var (keys, shows) in ((string, string)[])
                [
                    ("\r", "Enter choice number"),
                    ("3\r", "Selected as G0"),
                    ("\r", "Enter choice number"),
                    ("8\r", "Screen accordion test"),
                    ("\r", "nothing more"),
                    ("\r", "Test of 'Insert Mode'"),
                    ("\r", "Test of 'Delete Character'"),
                ]
        )
        {
            foreach (var screen in (Screens[])[plain, joined])
                screen.Keys(keys);
            foreach (var screen in (Screens[])[plain, joined])
                screen.Until(shows);
            Screens.AreSame(plain, joined);
        }

        using var late = Screens.Joining(sentry, Size, "vt", "--watch");
        Screens.AreSame(plain, late);
    }

    /// <summary>Nobody sees it, and it asks its terminal what that is.</summary>
    [Fact]
    public async Task What_a_program_asks_a_terminal_that_nobody_sees_is_answered()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script(
            "asks",
            "#!/bin/bash\nstty -echo raw\nprintf '\\e[c'; read -rd c is\nprintf '\\e[5n'; read -rd n well\nstty sane\necho \"it is ${is:1} and ${well:1}\"\nsleep 600\n"
        );
        await Wrap(sentry, "asks", program);
        using var joined = Screens.Joining(sentry, Size, "asks");
        joined.Until("it is [?62;22 and [0");
    }

    [Fact]
    public async Task Several_see_it_and_one_types_until_another_takes_over()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script(
            "quay",
            "#!/bin/bash\nwhile read -rp 'which berth? ' berth; do echo \"berth $berth is noted\"; done\n"
        );
        await Wrap(sentry, "quay", program);
        using var first = Screens.Joining(sentry, Size, "quay");
        first.Until("which berth?");
        first.Keys("7\r");
        first.Until("berth 7 is noted");
        using var second = Screens.Joining(sentry, Size, "quay");
        second.Until("berth 7 is noted");
        second.Keys("13\r"); // nobody takes it
        first.Keys("8\r");
        second.Until("berth 8 is noted");
        Assert.DoesNotContain("13", second.Now().All, StringComparison.Ordinal);
        second.Leave();
        using var third = Screens.Joining(sentry, Size, "quay", "--take");
        first.Until("types now; you only see");
        third.Until("berth 8 is noted");
        first.Keys("14\r");
        third.Keys("9\r");
        third.Until("berth 9 is noted");
        first.Until("berth 9 is noted");
        Assert.DoesNotContain("14", third.Now().All, StringComparison.Ordinal);
    }

    /// <summary>One that does not read holds up nobody, and is told what it missed.</summary>
    [Fact]
    public async Task A_viewer_that_reads_nothing_holds_up_nobody()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script(
            "crane",
            "#!/bin/bash\nread -rp 'ready to go? '\nseq 1 400000\nread -rp 'all of it was moved'\n"
        );
        await Wrap(sentry, "crane", program);
        using var one = Screens.Joining(sentry, Size, "crane");
        one.Until("ready to go?");
        using var slow = Screens.Joining(sentry, Size, "crane", "--watch");
        slow.Until("ready to go?");
        var client = slow.Client;
        Sentry.Kill(client, "STOP");
        one.Keys("\r");
        one.Until("all of it was moved");
        Sentry.Kill(client, "CONT");
        slow.Until("all of it was moved");
        one.Keys("x"); // both draw the same from here on
        Screens.AreSame(one, slow);
    }

    [Fact]
    public async Task Whoever_joined_outlives_the_server_and_misses_nothing()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script(
            "tide",
            "#!/bin/bash\nfor ((i = 1; i <= 100000; i++)); do printf 'tide %d\\n' $i; sleep 0.02; [ -e \"$CALM_STATE/enough\" ] && break; done\necho 'the tide is out'\nsleep 600\n"
        );
        await Wrap(sentry, "tide", program);
        using var joined = Screens.Joining(sentry, Size, "tide");
        joined.Until("tide ");
        for (var i = 0; i < Joins; i++)
        {
            await sentry.KillServer();
            await sentry.Serve();
        }

        await File.WriteAllTextAsync(Path.Combine(sentry.Places.StateOf("tide"), "enough"), "");
        joined.Until("the tide is out");
        var lines = joined
            .Now()
            .Lines.Select(line => line.Trim())
            .Where(line => line.StartsWith("tide ", StringComparison.Ordinal))
            .Select(line => int.Parse(line[5..], null))
            .ToList();
        Assert.True(lines.Count > 15);
        Assert.Equal(Enumerable.Range(lines[0], lines.Count), lines);
    }

    /// <summary>What would reach out of the terminal does not come through, and what is inside ends with leaving.</summary>
    [Fact]
    public async Task Codes_that_would_harm_the_viewer_stay_behind_and_its_terminal_is_as_before()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script(
            "siren",
            "#!/bin/bash\nprintf '\\e]0;owned\\a\\e]52;c;b3duZWQ=\\a\\e[5i\\e[8;5;5t\\e[?3h\\eP$qm\\e\\\\\\e_x\\e\\\\\\xc2\\x9d52;c;eA==\\xc2\\x9c\\e[2h\\ec\\e[?1000h\\e[?1h\\e[31mred sky at night'\nsleep 600\n"
        );
        await Wrap(sentry, "siren", program);
        var seen = Path.Combine(sentry.Places.Root, "seen");
        using var joined = Screens.Of(
            Size,
            "sh",
            "-c",
            $"stty -g; script -qec {$"{sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()} terminal siren".Quoted()} {seen.Quoted()}; stty -g; echo both"
        );
        joined.Until("red sky at night");
        joined.Keys("\u0011\u0011");
        joined.Until("both");
        var settings = joined
            .Now()
            .Lines.Select(line => line.Trim())
            .Where(line => line.Split(':').Length > 20)
            .ToList();
        var bytes = await File.ReadAllTextAsync(seen, Encoding.Latin1);
        Assert.Contains("red sky at night", bytes, StringComparison.Ordinal);
        foreach (
            var harm in (string[])
                [
                    "owned",
                    "b3duZWQ",
                    "\u001b[5i",
                    "\u001b[8;5;5t",
                    "?3h",
                    "\u001bP",
                    "\u001b_",
                    "\u009d",
                    "\u001b[2h",
                    "\u001bc",
                ]
        )
            Assert.DoesNotContain(harm, bytes, StringComparison.Ordinal);
        // What was let through is taken back.
        Assert.True(
            bytes.LastIndexOf("\u001b[?1000h", StringComparison.Ordinal)
                < bytes.LastIndexOf("?1000;", StringComparison.Ordinal)
        );
        Assert.True(settings.Count >= 1);
        Assert.Single(settings.Distinct());
    }

    [Fact]
    public async Task What_cannot_be_joined_says_why_and_what_to_do()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("plain", "--", "/bin/sleep", "600");
        var said = await sentry.Calm("terminal", "plain");
        Assert.Equal(1, said.Exit);
        Assert.Contains("plain runs without a terminal", said.All, StringComparison.Ordinal);
        Assert.Contains("calm adjust plain --terminal 120x40", said.All, StringComparison.Ordinal);
        await sentry.Ok("adjust", "plain", "--terminal", "120x40");
        said = await sentry.Calm("terminal", "plain");
        Assert.Contains("plain is not running", said.All, StringComparison.Ordinal);
        await sentry.Ok("start", "plain");
        said = await sentry.Calm("terminal", "plain");
        Assert.Equal(2, said.Exit);
        Assert.Contains("only from a terminal", said.All, StringComparison.Ordinal);
        Assert.Equal(4, (await sentry.Calm("terminal", "plane")).Exit);
        foreach (var size in (string[])["0x0", "120", "100000x5", "80x24x2", "wide"])
        {
            said = await sentry.Calm("adjust", "plain", "--terminal", size);
            Assert.Equal(2, said.Exit);
            Assert.Contains("a size such as 120x40", said.All, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task A_text_is_given_to_a_program_with_an_input_or_a_terminal()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("quay", "#!/bin/bash\nwhile read -r x; do echo \"noted: $x\"; done\nsleep 600\n");
        await sentry.Wrap("quay", "--start", "--", program);
        var said = await sentry.Calm("terminal", "quay", "--send", "7\\n");
        Assert.Equal(1, said.Exit);
        Assert.Contains("calm adjust quay --input kept", said.All, StringComparison.Ordinal);
        await sentry.Ok("adjust", "quay", "--input", "kept");
        said = await sentry.Calm("terminal", "quay", "--send", "7\\n");
        Assert.Contains("its input cannot be written", said.All, StringComparison.Ordinal); // this run has none yet
        await sentry.Ok("restart", "quay");
        await sentry.Ok("terminal", "quay", "--send", "7\\n");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "quay")).Output.Contains("noted: 7", StringComparison.Ordinal)
        );
        foreach (var wrong in (string[])["7\\q", "7\\"])
            Assert.Equal(2, (await sentry.Calm("terminal", "quay", "--send", wrong)).Exit);
        await sentry.Ok("adjust", "quay", "--terminal", "80x24");
        await sentry.Ok("restart", "quay");
        await sentry.Ok("terminal", "quay", "--send", "8 \\u00f8\\r");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "quay")).Output.Contains("noted: 8 ø", StringComparison.Ordinal)
        );
        var logbook = (await sentry.Ok("logbook", "quay")).Output;
        Assert.Contains("Its program was given a text.", logbook, StringComparison.Ordinal);
        Assert.DoesNotContain("noted", logbook, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_ticket_joins_once_and_a_wrong_one_never()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("quay", "#!/bin/bash\nread -rp 'which berth? ' x; stty size; sleep 600\n");
        await Wrap(sentry, "quay", program);
        var ticket = await Ticket();
        using (var first = await Join(ticket))
        {
            Assert.Equal("begins", (await News(first)).GetProperty("is").GetString());
            Assert.Equal(401, await Refused(ticket)); // it was used
            await Say(first, """{"columns": 0, "rows": 0}""");
            await Say(first, """{"columns": 100000, "rows": 100000}""");
            await first.SendAsync(new byte[1_000_000], WebSocketMessageType.Binary, true, default); // NUL for a program that reads lines
            await Say(first, "no JSON"); // it is let go for that
            await Assert.ThrowsAnyAsync<Exception>(async () =>
            {
                while (
                    (await first.ReceiveAsync(new byte[65536], default).InTime()).MessageType
                    != WebSocketMessageType.Close
                ) { }

                throw new WebSocketException();
            });
        }

        // Another account that got hold of a ticket.
        if (Environment.UserName == "root")
        {
            var said = await Sentry.As(
                "daemon",
                "curl",
                "-si",
                "--max-time",
                "10",
                "--unix-socket",
                sentry.Places.ApiSocket,
                "-H",
                "Connection: Upgrade",
                "-H",
                "Upgrade: websocket",
                "-H",
                "Sec-WebSocket-Version: 13",
                "-H",
                "Sec-WebSocket-Key: c2tlcnJ5IGxpbmUgcXVheQ==",
                $"http://sentry/api/terminal?ticket={await Ticket()}"
            );
            Assert.Contains("401", said.Output, StringComparison.Ordinal);
            Assert.Contains("bad-ticket", said.Output, StringComparison.Ordinal);
        }

        Assert.Equal(401, await Refused(new string('a', 64)));
        Assert.Equal(401, await Refused(""));
        Assert.Equal("running", (await sentry.Show("quay")).GetProperty("state").GetString());

        async Task<string> Ticket() =>
            (await sentry.Call(HttpMethod.Post, "services/quay/terminal")).GetProperty("ticket").GetString()!;

        async Task<ClientWebSocket> Join(string by)
        {
            var socket = new ClientWebSocket();
            await socket.ConnectAsync(new($"ws://sentry/api/terminal?ticket={by}"), sentry.Http(), default).InTime();
            return socket;
        }

        async Task<int> Refused(string by)
        {
            using var socket = new ClientWebSocket();
            socket.Options.CollectHttpResponseDetails = true;
            await Assert.ThrowsAsync<WebSocketException>(() =>
                socket.ConnectAsync(new($"ws://sentry/api/terminal?ticket={by}"), sentry.Http(), default).InTime()
            );
            return (int)socket.HttpStatusCode;
        }

        static Task Say(ClientWebSocket to, string text) =>
            to.SendAsync(Encoding.UTF8.GetBytes(text), WebSocketMessageType.Text, true, default);

        static async Task<JsonElement> News(ClientWebSocket from)
        {
            var room = new byte[65536];
            while (true)
            {
                var got = await from.ReceiveAsync(room, default).InTime();
                if (
                    got.MessageType == WebSocketMessageType.Text
                    && JsonDocument.Parse(room.AsMemory(0, got.Count)).RootElement is var news
                    && news.GetProperty("is").GetString() != "there"
                )
                    return news;
            }
        }
    }

    [Fact]
    public async Task What_is_seen_can_be_kept_in_an_open_format()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("quay", "#!/bin/bash\nread -rp 'which berth? ' x; echo \"noted: $x\"; sleep 600\n");
        await Wrap(sentry, "quay", program);
        var file = Path.Combine(sentry.Places.Root, "seen.cast");
        using (var joined = Screens.Joining(sentry, Size, "quay", "--record", file))
        {
            joined.Until("which berth?");
            joined.Keys("7 ø\r");
            joined.Until("noted: 7 ø");
            joined.Leave();
        }

        var lines = await File.ReadAllLinesAsync(file);
        var head = JsonDocument.Parse(lines[0]).RootElement;
        Assert.Equal(
            (2, 80, 24),
            (
                head.GetProperty("version").GetInt32(),
                head.GetProperty("width").GetInt32(),
                head.GetProperty("height").GetInt32()
            )
        );
        var events = lines.Skip(1).Select(line => JsonDocument.Parse(line).RootElement).ToList();
        Assert.Equal(events.Select(one => one[0].GetDouble()).Order(), events.Select(one => one[0].GetDouble()));
        Assert.Contains(
            "noted: 7 ø",
            string.Concat(events.Where(one => one[1].GetString() == "o").Select(one => one[2].GetString())),
            StringComparison.Ordinal
        );
        Assert.Equal(1, (await sentry.Calm("terminal", "quay", "--record", file)).Exit);
        Assert.True(new FileInfo(file).UnixFileMode == (UnixFileMode.UserRead | UnixFileMode.UserWrite));
    }
}
