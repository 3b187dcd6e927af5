using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Programs that have their number still but do no work: found by their watches, and brought back.</summary>
[Needs("faketime", "perl")]
public class WatchTests
{
    private static string State(JsonElement view) => view.GetProperty("state").GetString()!;

    private static bool BackAs(JsonElement view, long run) =>
        State(view) == "running" && view.GetProperty("run").GetInt64() == run;

    /// <summary>
    /// Answers every line and every request; hangs on the word hang, as a program in an endless loop does.
    /// </summary>
    private static string Server(Sentry sentry, int port) =>
        sentry.Script(
            "server.pl",
            $$"""
            #!/usr/bin/perl
            use IO::Socket::INET;
            $SIG{TERM} = sub { print "closing the books\n"; exit 0 };
            $| = 1;
            my $s = IO::Socket::INET->new(LocalAddr => "127.0.0.1", LocalPort => {{port}}, Listen => 9, ReuseAddr => 1) or die;
            print "open\n";
            while (1) {
                my $c = $s->accept or next;
                my $line = <$c>;
                if ($line =~ /hang/) { 1 while 1 }
                print $c "HTTP/1.0 200 OK\r\n\r\nopen\n";
            }
            """
        );

    [Fact]
    public async Task A_hung_program_is_found_by_its_page_and_brought_back()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "board",
            "--pause",
            "10ms",
            "--proof",
            $"http:http://127.0.0.1:{port}/",
            "--watch",
            $"http:http://127.0.0.1:{port}/,text=open,beat=200ms,patience=2,follows=restart-by-force",
            "--",
            Server(sentry, port)
        );
        await sentry.Ok("start", "board");
        var pid = (await sentry.Show("board")).GetProperty("pid").GetInt32();
        await Sentry.Eventually(async () =>
            (await sentry.Show("board")).GetProperty("watches")[0].GetProperty("seen").GetString()
            == $"http://127.0.0.1:{port}/ answered 200 with 'open' in it"
        );
        using (var client = new System.Net.Sockets.TcpClient())
        {
            await client.ConnectAsync("127.0.0.1", port);
            await client.GetStream().WriteAsync("GET /hang HTTP/1.0\r\n\r\n"u8.ToArray());
            await sentry.Until("board", view => BackAs(view, 2));
        }

        Assert.False(Sentry.Lives(pid));
        var run = (await sentry.Ok("runs", "board", "--run", "1", "--json")).Json[0];
        Assert.Equal(
            ("unwell", "Calm Sentry", true),
            (
                run.GetProperty("outcome").GetString(),
                run.GetProperty("ended-by").GetString(),
                run.GetProperty("bad").GetBoolean()
            )
        );
        // Its beat, or more where it usually takes its time: both are short of a second.
        Assert.Matches(@"does not answer within \d+ ms \(2 looks in a row\)", run.GetProperty("words").GetString());
    }

    [Fact]
    public async Task A_program_stopped_by_a_signal_is_found_and_can_still_close_its_books()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "ledger",
            "--pause",
            "10ms",
            "--watch",
            "paused-for:500ms,beat=100ms",
            "--",
            Server(sentry, Sentry.FreePort())
        );
        await sentry.Ok("start", "ledger");
        Sentry.Kill((await sentry.Show("ledger")).GetProperty("pid").GetInt32(), "STOP");
        await sentry.Until("ledger", view => BackAs(view, 2));
        Assert.Contains("closing the books", (await sentry.Ok("output", "ledger")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "kept stopped by a signal",
            (await sentry.Ok("why", "ledger")).Output,
            StringComparison.Ordinal
        );
    }

    /// <summary>Its keeper tells, also the server that comes later: nothing is looked at meanwhile.</summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_program_stopped_by_a_signal_is_found_without_looking(bool whileNoServerServes)
    {
        await using var sentry = await Sentry.Start();
        string[] watch = ["--pause", "10ms", "--watch", "paused-for:500ms,beat=1h"];
        await sentry.Wrap("ledger", [.. watch, "--start", "--", "/bin/sleep", "693"]);
        await Sentry.Eventually(async () =>
            $"{(await sentry.Show("ledger")).GetProperty("watches")[0]}".Contains(
                "is not stopped",
                StringComparison.Ordinal
            )
        );
        var pid = (await sentry.Show("ledger")).GetProperty("pid").GetInt32();
        if (whileNoServerServes)
            await sentry.KillServer();
        // What goes on in time is left alone.
        foreach (var signal in (string[])["STOP", "CONT", "STOP"])
            Sentry.Kill(pid, signal);
        if (whileNoServerServes)
            await sentry.Serve();
        await sentry.Until("ledger", view => BackAs(view, 2));
    }

    [Fact]
    public async Task What_hangs_after_an_hour_of_its_own_clock_is_found_by_its_silence()
    {
        await using var sentry = await Sentry.Start();
        var clock = Path.Combine(sentry.Places.Root, "clock");
        await File.WriteAllTextAsync(clock, "+0\n");
        var tide = sentry.Script(
            "tide",
            "#!/bin/sh\nbegan=$(date +%s)\nwhile [ $(($(date +%s) - began)) -lt 3600 ]; do echo tide; "
                + "/usr/bin/env -u LD_PRELOAD sleep 0.05; done\nunset LD_PRELOAD\nexec sleep 600\n"
        );
        var faketime = Directory
            .GetDirectories("/usr/lib")
            .Select(place => Path.Combine(place, "faketime", "libfaketime.so.1"))
            .First(File.Exists);
        await sentry.Wrap(
            "tide",
            "--pause",
            "10ms",
            "--environment",
            $"LD_PRELOAD={faketime}",
            "--environment",
            $"FAKETIME_TIMESTAMP_FILE={clock}",
            "--environment",
            "FAKETIME_NO_CACHE=1",
            "--watch",
            "silent-for:1s,follows=restart",
            "--",
            tide
        );
        await sentry.Ok("start", "tide");
        await Sentry.Eventually(async () =>
            (await sentry.Show("tide")).GetProperty("watches")[0].GetProperty("looked-at").ValueKind
            == JsonValueKind.String
        );
        Assert.Equal("good", (await sentry.Show("tide")).GetProperty("health").GetString());
        await File.WriteAllTextAsync(clock, "+3601s\n"); // an hour later, for this program alone
        await sentry.Until("tide", view => view.GetProperty("run").GetInt64() == 2);
        await File.WriteAllTextAsync(clock, "+0\n");
        Assert.Contains(
            "it has printed nothing for 1 s",
            (await sentry.Ok("runs", "tide", "--run", "1")).Output,
            StringComparison.Ordinal
        );
        // It does not fall silent again once its clock is right.
        await sentry.Ok("restart", "tide");
    }

    [Fact]
    public async Task Heartbeat_fresh_file_and_levels_are_watched_each_in_its_way()
    {
        await using var sentry = await Sentry.Start();
        var file = Path.Combine(sentry.Places.Root, "tides.csv");
        async Task Finds(string name, string watch, string words, string program)
        {
            await sentry.Wrap(
                name,
                "--pause",
                "10ms",
                "--watch",
                watch,
                "--",
                sentry.Script(name, $"#!/bin/bash\n{program}\n")
            );
            await sentry.Ok("start", name);
            var poor = await sentry.Until(name, view => view.GetProperty("health").GetString() == "poor");
            Assert.Contains(words, poor.GetProperty("health-why").GetString(), StringComparison.Ordinal);
            Assert.Equal(
                watch.EndsWith("follows=note", StringComparison.Ordinal),
                poor.GetProperty("attention").ValueKind == JsonValueKind.Null
            );
            Assert.Equal("running", State(poor));
        }

        await Task.WhenAll(
            Finds(
                "children",
                "tree-above:2,beat=100ms",
                "the processes below its main one are 3, above 2",
                "sleep 600 & sleep 600 & sleep 600 & wait"
            ),
            Finds(
                "files",
                "open-files-above:40,beat=100ms,follows=note",
                "the files it has open are",
                "for i in {10..60}; do eval \"exec $i</dev/null\"; done; sleep 600"
            ),
            Finds("busy", "cpu-above:20%,lasting=500ms,beat=250ms", "its processor time is", "while :; do :; done"),
            Finds(
                "memory",
                "memory-above:8MiB,beat=100ms",
                "above 8 MiB",
                "exec perl -e '$x = \"x\" x 33554432; sleep 600'"
            ),
            Finds("fresh", $"file:{file},fresh-for=600ms,beat=100ms", $"{file} has not been written for", "sleep 600"),
            Finds(
                "command",
                "command:/bin/false,beat=100ms,follows=tell",
                "/bin/false exited with code 1",
                "sleep 600"
            ),
            Finds("quiet", "silent-for:400ms,follows=note", "it has printed nothing for", "sleep 600")
        );

        // A heartbeat that stops: the program says that it is alive for a while, and then no more.
        await sentry.Wrap(
            "beats",
            "--pause",
            "10ms",
            "--watch",
            "well-within:1s",
            "--",
            sentry.Script(
                "beats",
                "#!/bin/sh\nfor i in 1 2 3 4 5 6 7 8; do curl -s -X POST --unix-socket \"$CALM_SAY\" "
                    + "http://sentry/well; sleep 0.2; done\nwhile :; do curl -s -d busy --unix-socket \"$CALM_SAY\" "
                    + "http://sentry/says; sleep 0.2; done\n" // a text of its own is no word that it is well
            )
        );
        await sentry.Ok("start", "beats");
        await sentry.Until("beats", view => view.GetProperty("run").GetInt64() == 2);
        Assert.Contains(
            "it has not said that it is alive for 1 s",
            (await sentry.Ok("runs", "beats", "--run", "1")).Output,
            StringComparison.Ordinal
        );
        var lasted = (await sentry.Ok("runs", "beats", "--run", "1", "--json")).Json[0];
        Assert.True(
            lasted.GetProperty("ended").GetDateTimeOffset() - lasted.GetProperty("launched").GetDateTimeOffset()
                > TimeSpan.FromSeconds(2),
            "as long as it says so, it is left alone"
        );
    }

    [Fact]
    public async Task What_is_switched_on_is_watched_though_nothing_of_it_runs()
    {
        await using var sentry = await Sentry.Start();
        var lamps = sentry.Script(
            "lamps",
            "#!/bin/sh\ncase $1 in on) touch \"$CALM_STATE/on\" ;; off) rm -f \"$CALM_STATE/on\" ;; look) test -e "
                + "\"$CALM_STATE/on\" ;; esac\n"
        );
        var on = Path.Combine(sentry.Places.StateOf("lamps"), "on");
        await sentry.Wrap(
            "lamps",
            "--kind",
            "toggles",
            "--off-command",
            lamps,
            "--off-command",
            "off",
            "--pause",
            "10ms",
            "--watch",
            $"command:{lamps.Quoted()} look,beat=100ms,patience=1",
            "--",
            lamps,
            "on"
        );
        Assert.Equal("unknown", (await sentry.Show("lamps")).GetProperty("health").GetString());
        await sentry.Ok("start", "lamps");
        await Sentry.Eventually(async () =>
            (await sentry.Show("lamps")).GetProperty("watches")[0].GetProperty("health").GetString() == "good"
        );
        var pid = (await sentry.Ok("runs", "lamps", "--json")).Json[0].GetProperty("pid").GetInt32();
        File.Delete(on);
        await sentry.Until("lamps", view => BackAs(view, 2));
        Assert.True(File.Exists(on));
        var run = (await sentry.Ok("runs", "lamps", "--run", "1", "--json")).Json[0];
        Assert.Equal(("unwell", pid), (run.GetProperty("outcome").GetString(), run.GetProperty("pid").GetInt32())); // the start command's, not the stop command's

        // And so by a server that returns.
        await sentry.KillServer();
        File.Delete(on);
        await sentry.Serve();
        await sentry.Until("lamps", view => BackAs(view, 3));
        Assert.True(File.Exists(on));
        Assert.Contains(
            "http, tcp, command and file",
            (await sentry.Calm("adjust", "lamps", "--watch", "memory-above:8MiB")).Error,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_watch_goes_on_under_the_next_server_and_follows_an_adjusted_definition()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "board",
            "--pause",
            "10ms",
            "--proof",
            $"tcp:127.0.0.1:{port}",
            "--watch",
            $"tcp:127.0.0.1:{port},beat=100ms",
            "--",
            Server(sentry, port)
        );
        await sentry.Ok("start", "board");
        await sentry.KillServer();
        await sentry.Serve();
        await Sentry.Eventually(async () =>
            (await sentry.Show("board")).GetProperty("watches")[0].GetProperty("looked-at").ValueKind
            == JsonValueKind.String
        );
        Assert.Equal(1, (await sentry.Show("board")).GetProperty("run").GetInt64());
        // As many watches as before, yet others: what was seen of the old ones is not said of them.
        Assert.Contains(
            "Takes effect immediately.",
            (await sentry.Ok("adjust", "board", "--watch", "tcp:127.0.0.1:1,beat=1h,follows=tell")).Output,
            StringComparison.Ordinal
        );
        var fresh = (await sentry.Show("board")).GetProperty("watches")[0];
        Assert.Equal(
            ("unknown", JsonValueKind.Null),
            (fresh.GetProperty("health").GetString(), fresh.GetProperty("seen").ValueKind)
        );
        await sentry.Ok("adjust", "board", "--watch", "tcp:127.0.0.1:1,beat=100ms,patience=2,follows=tell");
        var poor = await sentry.Until("board", view => view.GetProperty("health").GetString() == "poor");
        Assert.Contains(
            "nothing accepts connections at 127.0.0.1:1",
            poor.GetProperty("attention").GetString(),
            StringComparison.Ordinal
        );
        await sentry.Ok("adjust", "board", "--watch", $"tcp:127.0.0.1:{port},beat=100ms");
        await sentry.Until("board", view => view.GetProperty("health").GetString() == "good");
        Assert.Equal(1, (await sentry.Show("board")).GetProperty("run").GetInt64());
        var refused = await sentry.Calm("adjust", "board", "--recover", "never");
        Assert.Contains("a watch that restarts it, with recover.after: never", refused.Error, StringComparison.Ordinal);
    }
}
