using System.Globalization;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Programs that really fall: back after any fall, given up in time, with the evidence kept.</summary>
[Needs("perl")]
public class FallTests
{
    private static string State(JsonElement view) => view.GetProperty("state").GetString()!;

    [Fact]
    public async Task A_command_is_run_after_so_many_failures_as_the_account_and_once()
    {
        await using var sentry = await Sentry.Start();
        var mend = sentry.Script(
            "mend",
            "#!/bin/sh\n[ \"$1\" = 'the cache' ] && echo \"$(id -un) saw failure $CALM_FAILURES of run $CALM_FAILED_RUN\"\nexit 7\n"
        );
        var script = sentry.Script("gate", "#!/bin/sh\nsleep 0.3\nexit 3\n");
        string[] then = ["--then", $"command:{mend.Quoted()} 'the cache',after=2"];
        await sentry.Wrap(
            "gate",
            ["--proof", "up-for:100ms", "--pause", "10ms", "--hold-ends", "4", .. then, "--", script]
        );
        await sentry.Ok("start", "gate");
        await sentry.Until("gate", view => State(view) == "held");
        List<string> said = [];
        await Sentry.Eventually(async () =>
        {
            said =
            [
                .. (await sentry.Ok("logbook", "gate", "--kind", "followed-up", "--json"))
                    .Json.EnumerateArray()
                    .Select(entry => entry.GetProperty("text").GetString()!),
            ];
            return said.Count > 0;
        });
        Assert.StartsWith($"After 2 failures {mend} was run for", Assert.Single(said), StringComparison.Ordinal);
        Assert.EndsWith(
            $"it exited with code 7, and said '{Sentry.Account} saw failure 2 of run 2'.",
            said[0],
            StringComparison.Ordinal
        );
        // Its own failures are the service's no more than its success would be.
        Assert.Equal(4, (await sentry.Ok("runs", "gate", "--json")).Json.GetArrayLength());
        var refused = await sentry.Calm("adjust", "gate", "--then", $"command:{mend.Quoted()},after=5");
        Assert.Equal(2, refused.Exit);
        Assert.Contains("at most recover.hold.ends, which is 4", refused.Told, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_crash_loop_is_held_and_told_and_a_release_lifts_the_hold()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script(
            "gate",
            "#!/bin/sh\necho counting\nsleep 0.4\necho 'the barrier reads -1' >&2\nexit 3\n"
        );
        await sentry.Wrap("gate", "--proof", "up-for:100ms", "--pause", "10ms", "--hold-ends", "3", "--", script);
        await sentry.Ok("start", "gate");
        await sentry.Until("gate", view => State(view) == "held");
        Assert.Equal(
            "gate",
            (await sentry.Ok("board", "--json")).Json.GetProperty("need-attention")[0].GetProperty("name").GetString()
        );
        var board = (await sentry.Ok("board", "--once")).Output;
        Assert.Contains("gate  held since", board, StringComparison.Ordinal);
        Assert.Contains("Held after 3 failures within 10 min.", board, StringComparison.Ordinal);
        var why = (await sentry.Ok("why", "gate")).Output;
        Assert.Contains(
            "Failed 3 times, and was restarted 2 times: it exited with code 3 each time.",
            why,
            StringComparison.Ordinal
        );
        Assert.Contains("tries it again", why, StringComparison.Ordinal);
        Assert.Contains("calm release gate", why, StringComparison.Ordinal);
        Assert.Equal(3, (await sentry.Ok("runs", "gate", "--json")).Json.GetArrayLength());
        await Sentry.Eventually(async () =>
            (await sentry.Ok("runs", "gate", "--run", "3")).Output.Contains(
                "the barrier reads -1",
                StringComparison.Ordinal
            )
        );

        // Mended, it is released and stays; and the next fall knows what was changed since it ran well.
        sentry.Script("gate", "#!/bin/sh\necho mended\nexec sleep 600\n");
        Assert.Contains(
            "Released from its hold. gate is running: run 4",
            (await sentry.Ok("release", "gate")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains("not on hold", (await sentry.Ok("release", "gate")).Output, StringComparison.Ordinal);
        await sentry.Ok("stop", "gate");
        sentry.Script("gate", "#!/bin/sh\necho broken again and longer\nkill -SEGV $$\n");
        await sentry.Ok("adjust", "gate", "--title", "Gate counter");
        await sentry.Calm("start", "gate");
        await Sentry.Eventually(async () =>
        {
            var run = (await sentry.Ok("runs", "gate", "--run", "5", "--json")).Json[0];
            if (run.GetProperty("evidence") is not { ValueKind: JsonValueKind.Object } evidence)
                return false;
            Assert.Equal(
                ("signalled", 11, "itself", 4),
                (
                    run.GetProperty("outcome").GetString(),
                    run.GetProperty("code").GetInt32(),
                    run.GetProperty("ended-by").GetString(),
                    evidence.GetProperty("well-run").GetInt32()
                )
            );
            var changes = string.Join(
                "\n",
                evidence.GetProperty("changes").EnumerateArray().Select(change => change.GetString())
            );
            Assert.Contains("revision 2; run 4 went by revision 1", changes, StringComparison.Ordinal);
            Assert.Contains($"Its program's file {script} is another", changes, StringComparison.Ordinal);
            return true;
        });
    }

    [Fact]
    public async Task What_falls_while_starting_is_a_failed_start_and_a_slow_beat_finds_it_mended()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        var mended = Path.Combine(sentry.Places.Root, "mended");
        var script = sentry.Script(
            "board",
            $$"""
            #!/bin/sh
            [ -e {{mended.Quoted()}} ] || { echo "no timetable"; exit 0; }
            exec perl -MIO::Socket::INET -e '$s = IO::Socket::INET->new(LocalAddr => "127.0.0.1", LocalPort => {{port}}, Listen => 5) or die; 1 while $s->accept'
            """
        );
        await sentry.Wrap(
            "board",
            "--proof",
            $"tcp:127.0.0.1:{port}",
            "--pause",
            "10ms",
            "--hold-ends",
            "2",
            "--retry-every",
            "1s",
            "--",
            script
        );
        var started = await sentry.Calm("start", "board");
        Assert.Equal(1, started.Exit);
        var held = await sentry.Until("board", view => State(view) == "held");
        Assert.Contains("Calm Sentry tries again at", held.GetProperty("why").GetString(), StringComparison.Ordinal);
        Assert.Contains(
            "before it was ready: a failed start",
            (await sentry.Ok("why", "board")).Output,
            StringComparison.Ordinal
        );
        await sentry.Until("board", view => State(view) == "held" && view.GetProperty("run").GetInt64() >= 4); // tried again, and put back
        await File.WriteAllTextAsync(mended, "");
        await sentry.Until("board", view => State(view) == "running");
        // Told once each, however often it was tried.
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "board", "--last", "200", "--json"))
                .Json.EnumerateArray()
                .Where(entry => entry.GetProperty("tells").GetBoolean())
                .Select(entry => entry.GetProperty("code").GetString())
                .SequenceEqual(["held", "recovered"])
        );
    }

    [Fact]
    public async Task Exit_codes_and_signals_lead_where_the_definition_says()
    {
        await using var sentry = await Sentry.Start();
        async Task<JsonElement> EndWith(string end, string then, Func<JsonElement, bool> met, params string[] more)
        {
            var name = $"ends-{then}";
            await sentry.Wrap(
                name,
                [
                    "--proof",
                    "up-for:100ms",
                    "--pause",
                    "150ms",
                    "--recover",
                    "never",
                    "--code",
                    $"{(end.StartsWith("exit", StringComparison.Ordinal) ? end[5..] : "SEGV")}={then}",
                    .. more,
                    "--",
                    sentry.Script(name, $"#!/bin/sh\nsleep 0.3\n{end}\n"),
                ]
            );
            await sentry.Ok("start", name);
            return await sentry.Until(name, met);
        }

        await EndWith(
            "exit 4",
            "done",
            view => State(view) == "stopped" && view.GetProperty("attention").ValueKind == JsonValueKind.Null
        );
        await EndWith("exit 75", "again", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);
        await EndWith(
            "exit 7",
            "again-at-once",
            view => State(view) == "running" && view.GetProperty("run").GetInt64() == 12,
            "--hold-ends",
            "2"
        ); // none of them a bad end
        var held = await EndWith("kill -SEGV $$", "hold", view => State(view) == "held");
        Assert.Contains(
            "recover.codes says hold of SEGV",
            held.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );

        await sentry.Wrap("lamps", "--need", "service:ends-stop-dependents", "--", "/bin/sleep", "600");
        var lamps = sentry.Calm("start", "lamps");
        await EndWith("exit 9", "stop-dependents", view => State(view) == "stopped");
        await sentry.Until("lamps", view => State(view) == "stopped");
        Assert.Contains(
            "ends-stop-dependents, which it needs",
            (await sentry.Show("lamps")).GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        await lamps;
    }

    [Fact]
    public async Task What_leaks_is_foretold_ended_at_its_ceiling_and_brought_back()
    {
        Assert.SkipUnless(
            File.Exists("/sys/fs/cgroup/cgroup.controllers") || Directory.Exists("/sys/fs/cgroup/memory"),
            "this host has no memory controller"
        );
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "spooler",
            "--memory",
            "64MiB",
            "--pause",
            "10ms",
            "--watch",
            "ceiling-within:1h,beat=100ms",
            "--",
            "/usr/bin/perl",
            "-e",
            "for (1..1e6) { push @kept, 'x' x 1048576; select undef, undef, undef, 0.05 }"
        );
        await sentry.Ok("start", "spooler");
        var poor = await sentry.Until("spooler", view => view.GetProperty("health").GetString() == "poor");
        Assert.Contains(
            "at that rate it reaches its limit of 64 MiB in about",
            poor.GetProperty("attention").GetString(),
            StringComparison.Ordinal
        );
        await sentry.Until("spooler", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);
        var first = (await sentry.Ok("runs", "spooler", "--run", "1", "--json")).Json[0];
        Assert.Equal("the kernel, for its memory", first.GetProperty("ended-by").GetString());
        await Sentry.Eventually(async () =>
            (await sentry.Ok("runs", "spooler", "--run", "1", "--json")).Json[0].GetProperty("evidence")
                is { ValueKind: JsonValueKind.Object } evidence
            && evidence.GetProperty("memory-bytes").GetInt64() > 32 << 20
        );
    }

    [Fact]
    public async Task What_put_itself_into_the_background_and_dies_there_is_brought_back()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "relay",
            "--kind",
            "detaches",
            "--pause",
            "10ms",
            "--",
            sentry.Script("relay", "#!/bin/sh\nsetsid sleep 600 &\nexit 0\n")
        );
        await sentry.Ok("start", "relay");
        for (var run = 2; run <= 4; run++)
        {
            Sentry.Kill((await sentry.Show("relay")).GetProperty("pid").GetInt32(), "SEGV");
            var back = await sentry.Until(
                "relay",
                view => State(view) == "running" && view.GetProperty("run").GetInt64() == run
            );
            Assert.True(Sentry.Lives(back.GetProperty("pid").GetInt32()));
        }

        Assert.Single(sentry.Processes("relay"));
    }

    [Fact]
    public async Task Time_is_counted_with_planned_stops_apart_from_falls_and_the_past_can_be_asked()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--pause", "300ms", "--", "/bin/sleep", "600");
        await sentry.Ok("start", "tide");
        // By the record's own clock: timers and the wall clock need not agree to the millisecond.
        var up = (await sentry.Ok("runs", "tide", "--json")).Json[0].GetProperty("proven").GetDateTimeOffset();
        Sentry.Kill((await sentry.Show("tide")).GetProperty("pid").GetInt32());
        await sentry.Until("tide", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);
        await sentry.Ok("stop", "tide");
        await sentry.Ok("start", "tide");
        var day = (await sentry.Call(HttpMethod.Get, "services/tide/availability"))[0];
        Assert.Equal((1, 1), (day.GetProperty("falls").GetInt32(), day.GetProperty("stops").GetInt32()));
        Assert.InRange(day.GetProperty("percent").GetDouble(), 1, 99);
        Assert.True(day.GetProperty("fallen-ms").GetDouble() >= 300 && day.GetProperty("planned-ms").GetDouble() > 0);
        var runs = (await sentry.Ok("runs", "tide", "--json")).Json;
        Assert.Equal(
            [("Calm Sentry", Environment.UserName), (Environment.UserName, "a signal from elsewhere")],
            runs.EnumerateArray()
                .Skip(1)
                .Select(run => (run.GetProperty("begun-by").GetString(), run.GetProperty("ended-by").GetString()))
        );
        var then = (
            await sentry.Ok("why", "tide", "--at", up.ToString("O", CultureInfo.InvariantCulture), "--json")
        ).Json;
        Assert.Equal(("running", true), (then.GetProperty("state").GetString(), then.GetProperty("past").GetBoolean()));
        Assert.DoesNotContain("KILL", then.GetRawText(), StringComparison.Ordinal); // of what came later nothing is told
        Assert.Equal(4, (await sentry.Calm("why", "tide", "--at", "2001-01-01")).Exit);
        var noTime = await sentry.Calm("why", "tide", "--at", "teatime");
        Assert.Equal(2, noTime.Exit);
        Assert.Contains("found 'teatime'", noTime.Error, StringComparison.Ordinal);

        // All times are the host's, wherever a client believes to be.
        using var far = sentry.Open(
            new Dictionary<string, string> { ["TZ"] = "Pacific/Kiritimati" },
            "runs",
            "tide",
            "--run",
            "1"
        );
        Assert.Equal((await sentry.Ok("runs", "tide", "--run", "1")).Output, await far.StandardOutput.ReadToEndAsync());
    }
}
