using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Clean stops: step by step, with what each came to, and never a record lost.</summary>
[Needs("perl")]
public class WindDownTests
{
    private static string State(JsonElement view) => view.GetProperty("state").GetString()!;

    private static async Task<JsonElement> LastRun(Sentry sentry, string name) =>
        (await sentry.Ok("runs", name, "--last", "1", "--json")).Json[0];

    /// <summary>Ends by whatever reaches it first, and says which.</summary>
    private static string Listener(Sentry sentry, string name, int port) =>
        sentry.Script(
            name,
            $$"""
            #!/usr/bin/perl
            use IO::Socket::INET; use IO::Socket::UNIX; use IO::Select;
            $| = 1;
            my $t = IO::Socket::INET->new(LocalAddr => "127.0.0.1", LocalPort => {{port}}, Listen => 9, ReuseAddr => 1) or die;
            my $u = IO::Socket::UNIX->new(Local => "$ENV{CALM_STATE}/control", Listen => 9) or die;
            $SIG{INT} = sub { print "interrupted\n"; exit 0 };
            $SIG{USR1} = sub { print "told by a signal\n"; exit 0 };
            my $s = IO::Select->new($t, $u, \*STDIN);
            print "open\n";
            while (1) {
                for my $h ($s->can_read) {
                    if ($h == \*STDIN) { my $line = <STDIN>; print defined $line ? "input: $line" : "input ended\n"; exit 0 unless !defined $line && $ENV{DEAF}; $s->remove(\*STDIN) }
                    else { my $c = $h->accept; my $line = <$c>; chomp $line; print "line: $line\n"; print $c $line =~ /HTTP/ ? "HTTP/1.0 202 Accepted\r\nConnection: close\r\n\r\nclosing\n" : "closing\n"; close $c; select undef, undef, undef, 0.2; exit 0 }
                }
            }
            """
        );

    [Fact]
    public async Task Each_kind_of_step_reaches_the_program_and_its_effect_is_on_record()
    {
        await using var sentry = await Sentry.Start();
        var control = Path.Combine(sentry.Places.StateOf("unix"), "control");
        async Task Ends(string name, string step, string printed, string? answer, params string[] more)
        {
            var port = Sentry.FreePort();
            var proof = Path.Combine(sentry.Places.StateOf(name), "control");
            if (File.Exists(proof))
                File.Delete(proof);
            await sentry.Wrap(
                name,
                [
                    "--environment",
                    "DEAF=1",
                    "--proof",
                    "output:^open",
                    "--wind-down",
                    step.Replace("PORT", $"{port}", StringComparison.Ordinal),
                    .. more,
                    "--",
                    Listener(sentry, name, port),
                ]
            );
            await sentry.Ok("start", name);
            var said = await sentry.Ok("stop", name);
            var run = await LastRun(sentry, name);
            Assert.False(run.GetProperty("forced").GetBoolean(), said.All);
            var taken = Assert.Single(run.GetProperty("steps").EnumerateArray());
            Assert.True(taken.GetProperty("ended-ms").ValueKind == JsonValueKind.Number);
            Assert.Equal(answer, taken.GetProperty("answer").GetString());
            if (printed.Length > 0)
                Assert.Contains(printed, (await sentry.Ok("output", name)).Output, StringComparison.Ordinal);
        }

        await Ends("tcp", "send:close-day\\n,to=tcp 127.0.0.1:PORT,wait=9s", "line: close-day", "it said 'closing'");
        await Ends("unix", $"send:close-day\\n,to=unix {control},wait=9s", "line: close-day", "it said 'closing'");
        await Ends(
            "http",
            "http:http://127.0.0.1:PORT/close,method=PUT,wait=9s",
            "line: PUT /close HTTP/1.1",
            "it answered 202, and it said 'closing'"
        );
        await Ends("input", "send:good night\\n,to=input,wait=9s", "input: good night", "its input took it");
        await Ends("close", "close:input,wait=9s", "input ended", "its input has ended", "--environment", "DEAF=");
        await Ends("signal", "USR1 9s", "told by a signal", null);
        await Ends("tree", "signal:USR1,to=tree,wait=9s", "told by a signal", null);
        await Ends("key", "key:interrupt,wait=9s", "interrupted", "its terminal took it", "--terminal", "true");
        await Ends(
            "command",
            $"command:{sentry.Script("closer", "#!/bin/sh\necho closing $CALM_SERVICE\nkill -USR1 $CALM_PID\nsleep 0.1\n").Quoted()},wait=9s",
            "told by a signal",
            null
        );
    }

    [Fact]
    public async Task A_step_that_fails_is_followed_at_once_and_what_ignores_all_is_ended_by_force()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "stubborn",
            "--wind-down",
            "send:bye\\n,to=tcp 127.0.0.1:1,wait=30s",
            "--wind-down",
            "command:/bin/false,wait=30s",
            "--wind-down",
            "INT 100ms",
            "--wind-down",
            "TERM 100ms",
            "--",
            sentry.Script(
                "stubborn",
                "#!/bin/sh\ntrap '' HUP INT TERM QUIT USR1 USR2\nsleep 600 &\nwhile :; do sleep 1; done\n"
            )
        );
        await sentry.Ok("start", "stubborn");
        var said = (await sentry.Ok("stop", "stubborn")).Output;
        Assert.Contains("Connection refused", said, StringComparison.Ordinal);
        Assert.Contains("Finding wind-down-short", said, StringComparison.Ordinal);
        var run = await LastRun(sentry, "stubborn");
        Assert.Equal(
            [true, true, false, false, false],
            run.GetProperty("steps").EnumerateArray().Select(step => step.GetProperty("failed").GetBoolean())
        );
        Assert.True(run.GetProperty("forced").GetBoolean() && run.GetProperty("stop-ms").GetDouble() < 30_000);
        Assert.Empty(sentry.Processes("stubborn"));
        Assert.Contains("wind-down-short", (await sentry.Calm("check", "stubborn")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "Longer waits mend no step",
            (await sentry.Calm("check", "stubborn")).Output,
            StringComparison.Ordinal
        );
        // Where it is the wait, a longer one is advised: never one that is shorter than it is.
        await sentry.Ok("adjust", "stubborn", "--wind-down", "INT 50ms", "--wind-down", "TERM 100ms");
        await sentry.Ok("start", "stubborn");
        await sentry.Ok("stop", "stubborn");
        var advised = (await sentry.Calm("check", "stubborn")).Output.ReplaceLineEndings(" ");
        Assert.Contains("--wind-down 'INT 50 ms' --wind-down 'TERM 20 s'", advised, StringComparison.Ordinal);
        // Under another wind-down the old stops say nothing any more.
        await sentry.Ok("adjust", "stubborn", "--wind-down", "USR1 20s");
        Assert.DoesNotContain(
            "wind-down-short",
            (await sentry.Calm("check", "stubborn")).Output,
            StringComparison.Ordinal
        );
    }

    /// <summary>A step that fails, alone; and one by an input that the run does not have, for it was launched before.</summary>
    [Theory]
    [InlineData("send:bye\n,to=tcp 127.0.0.1:1,wait=30s", "TERM 5s")]
    [InlineData("TERM 5s", "send:bye\n,to=input,wait=30s")]
    public async Task Whatever_cannot_be_told_it_is_asked_to_end_before_it_is_killed(string first, string then)
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "teller",
            "--wind-down",
            first,
            "--proof",
            "output:^open",
            "--start",
            "--",
            sentry.Script(
                "teller",
                "#!/bin/sh\ntrap 'echo over; exit 0' TERM\necho open\nwhile :; do sleep 0.05; done\n"
            )
        );
        if (then.Contains("input", StringComparison.Ordinal))
        {
            var said = (await sentry.Ok("adjust", "teller", "--wind-down", then)).Output;
            Assert.Contains("step-not-possible", said, StringComparison.Ordinal);
            Assert.Contains("run 1 was launched with no input", said, StringComparison.Ordinal);
            Assert.Contains(
                "step-not-possible",
                (await sentry.Calm("check", "teller")).Output,
                StringComparison.Ordinal
            );
        }

        await sentry.Ok("stop", "teller");
        var run = await LastRun(sentry, "teller");
        Assert.Equal(
            [
                (
                    true,
                    "'bye' to " + (then.Contains("input", StringComparison.Ordinal) ? "its input" : "tcp 127.0.0.1:1")
                ),
                (false, "TERM"),
            ],
            run.GetProperty("steps")
                .EnumerateArray()
                .Select(step => (step.GetProperty("failed").GetBoolean(), step.GetProperty("what").GetString()!))
        );
        Assert.False(run.GetProperty("forced").GetBoolean());
        Assert.EndsWith(
            "over\n",
            await File.ReadAllTextAsync(sentry.Places.OutputOf("teller")),
            StringComparison.Ordinal
        );
        // Run anew, it has the input.
        await sentry.Ok("start", "teller");
        Assert.DoesNotContain(
            "step-not-possible",
            (await sentry.Calm("check", "teller")).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_step_taken_before_the_server_was_lost_is_not_taken_again()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "ledger",
            "--proof",
            "output:^open",
            "--wind-down",
            $"send:close-day\\n,to=tcp 127.0.0.1:{port},wait=60s",
            "--",
            sentry.Script(
                "ledger",
                $$"""
                #!/usr/bin/perl
                use IO::Socket::INET; $| = 1;
                my $t = IO::Socket::INET->new(LocalAddr => "127.0.0.1", LocalPort => {{port}}, Listen => 9, ReuseAddr => 1) or die;
                print "open\n";
                while (my $c = $t->accept) { my $line = <$c>; print "told: $line"; print $c "closing\n"; close $c; select undef, undef, undef, 0.05 until -e "$ENV{CALM_STATE}/may-end"; print "closed\n"; exit 0 }
                """
            )
        );
        await sentry.Ok("start", "ledger");
        var stop = sentry.Calm("stop", "ledger");
        await sentry.Until(
            "ledger",
            view => view.GetProperty("why").GetString()!.Contains("it said 'closing'", StringComparison.Ordinal)
        );
        await sentry.Ok("logbook", "ledger"); // what is on record survives
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "ledger")).Output.Contains("it said 'closing'", StringComparison.Ordinal)
        );
        await sentry.KillServer();
        await sentry.Serve();
        await stop;
        Assert.Equal("stopping", State(await sentry.Show("ledger")));
        await File.WriteAllTextAsync(Path.Combine(sentry.Places.StateOf("ledger"), "may-end"), "");
        await sentry.Until("ledger", view => State(view) == "stopped");
        Assert.Equal(
            ["open", "told: close-day", "closed"],
            (await sentry.Ok("output", "ledger")).Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
        );
        Assert.Equal(
            "it said 'closing'",
            (await LastRun(sentry, "ledger")).GetProperty("steps")[0].GetProperty("answer").GetString()
        );
    }

    [Fact]
    public async Task Asking_while_another_thing_is_under_way_has_one_result_each()
    {
        await using var sentry = await Sentry.Start();
        // Needs a second to end, and says how often it was told.
        var slow = sentry.Script(
            "slow",
            "#!/bin/bash\ntrap 'echo told; sleep 1; exit 0' TERM\necho open\nwhile :; do sleep 0.05; done\n"
        );
        async Task<string> Fresh(string name, string proof = "output:^open", params string[] more)
        {
            await sentry.Wrap(name, ["--proof", proof, .. more, "--", slow]);
            return name;
        }

        // Stopped twice: one wind-down, and both are answered with its end.
        await sentry.Ok("start", await Fresh("twice"));
        await Task.WhenAll(sentry.Ok("stop", "twice"), sentry.Ok("stop", "twice"));
        Assert.Single((await sentry.Ok("output", "twice")).Output.Split('\n'), line => line == "told");

        // Stopped while starting: it is wound down, and the start is told that it did not come true.
        var starting = sentry.Calm("start", await Fresh("starting", "file:/nowhere/ready,within=1min"));
        await sentry.Until("starting", view => State(view) == "starting");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "starting")).Output.Contains("open", StringComparison.Ordinal)
        );
        await sentry.Ok("stop", "starting");
        Assert.Equal((1, "stopped"), ((await starting).Exit, State(await sentry.Show("starting"))));

        // Started while stopping: the stop is done first, then it starts.
        await sentry.Ok("start", await Fresh("stopping"));
        var stop = sentry.Calm("stop", "stopping");
        await sentry.Until("stopping", view => State(view) == "stopping");
        Assert.Contains("run 2", (await sentry.Ok("start", "stopping")).Output, StringComparison.Ordinal);
        Assert.Contains("was started again meanwhile", (await stop).All, StringComparison.Ordinal);
        Assert.Contains("told", (await sentry.Ok("output", "stopping")).Output, StringComparison.Ordinal);

        // Unwrapped while starting, running, stopping, waiting and held: wound down cleanly, and gone.
        var held = await Fresh("held", "output:^open", "--need", "path:/nowhere/at/all,within=1ms,follows=hold");
        var waiting = await Fresh("waiting", "output:^open", "--need", "path:/nowhere/at/all");
        var began = await Fresh("began", "file:/nowhere/ready,within=1min");
        var left = new[] { held, waiting, began }.Select(name => sentry.Calm("start", name)).ToList();
        await sentry.Until(held, view => State(view) == "held");
        await sentry.Until(waiting, view => State(view) == "waiting");
        await sentry.Until(began, view => State(view) == "starting");
        left.Add(sentry.Calm("stop", "stopping"));
        await sentry.Until("stopping", view => State(view) == "stopping");
        await sentry.Ok("start", "twice");
        foreach (var name in new[] { held, waiting, began, "stopping", "twice" })
        {
            Assert.Contains(
                "is unwrapped",
                (await sentry.Ok("unwrap", name, "--yes")).Output,
                StringComparison.Ordinal
            );
            Assert.Empty(sentry.Processes(name));
        }

        await Task.WhenAll(left);
        Assert.Equal(
            ["starting"],
            (await sentry.Ok("list", "--json"))
                .Json.EnumerateArray()
                .Select(view => view.GetProperty("name").GetString())
        );
    }
}
