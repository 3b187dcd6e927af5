using System.Globalization;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Planned moments, with real jobs and real clocks: runs, restarts, and what is seen of them ahead.</summary>
public class RhythmTests
{
    private const string Every3 = "run:every 3 s from 00:00";

    private static bool Is(JsonElement view, string state, long run) =>
        view.GetProperty("state").GetString() == state
        && view.TryGetProperty("run", out var number)
        && number.ValueKind == JsonValueKind.Number
        && number.GetInt64() >= run;

    private static async Task<List<JsonElement>> Runs(Sentry sentry, string name) =>
        [
            .. (await sentry.Ok("runs", name, "--json"))
                .Json.EnumerateArray()
                .OrderBy(run => run.GetProperty("run").GetInt64()),
        ];

    [Fact]
    public async Task A_job_runs_at_its_moments_and_rests_without_a_keeper_between()
    {
        await using var sentry = await Sentry.Start();
        var wrapped = await sentry.Wrap(
            "tide-pull",
            "--kind",
            "periodic",
            "--rhythm",
            Every3,
            "--",
            "/usr/bin/printenv",
            "CALM_MOMENT"
        );
        Assert.Contains("it runs at its moments from now on", wrapped.Output, StringComparison.Ordinal);
        Assert.Contains("the next moments:", wrapped.Output, StringComparison.Ordinal);
        var view = await sentry.Until("tide-pull", view => Is(view, "resting", 2));
        Assert.NotEqual(JsonValueKind.Null, view.GetProperty("next-moment").ValueKind);
        var runs = (await Runs(sentry, "tide-pull"))[..2];
        // Each was told which moment it is for.
        var moments = (await sentry.Ok("output", "tide-pull", "--raw"))
            .Output.Split('\n')[..2]
            .Select(Instant)
            .ToList();
        Assert.All(moments, moment => Assert.Equal(0, moment.ToUnixTimeSeconds() % 3));
        Assert.True(moments[0] < moments[1]);
        foreach (var (run, moment) in runs.Zip(moments))
        {
            Assert.Equal(
                ("rhythm", "exited", 0),
                (Text(run, "cause"), Text(run, "outcome"), run.GetProperty("code").GetInt32())
            );
            // By the clock of people; a busy machine may be late, never early.
            Assert.True(run.GetProperty("launched").GetDateTimeOffset() >= moment, $"{run} before {moment:O}");
        }

        // The one in reserve has no run.
        await Sentry.Eventually(() =>
            Directory
                .EnumerateDirectories(Path.Combine(sentry.Places.RunDirectory, "services"))
                .All(place => !File.Exists(Path.Combine(place, "socket")))
        );
        var why = await sentry.Ok("why", "tide-pull");
        Assert.Contains("Resting: its next run is at", why.Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Days_of_a_file_are_left_out_and_hold_when_it_is_gone()
    {
        await using var sentry = await Sentry.Start();
        var today = DateTimeOffset.UtcNow;
        string Day(int days) => today.AddDays(days).ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
        var file = Path.Combine(Path.GetDirectoryName(sentry.Script("pull", "#!/bin/sh\n"))!, "harbour days.txt");
        var rhythm = $"run:daily at 00:00,zone=UTC,except={Day(2)} {file}";
        string[] job = ["tide-pull", "--kind", "periodic", "--rhythm", rhythm];
        var absent = await sentry.Calm(["wrap", .. job, "--account", Sentry.Account, "--", "/bin/true"]);
        Assert.Equal(1, absent.Exit);
        Assert.Contains("The days to leave out cannot be read from", absent.Told, StringComparison.Ordinal);

        await File.WriteAllTextAsync(file, $"# the harbour is closed\n{Day(1)} regatta\n\n{Day(4)}\n");
        var dry = await sentry.Ok(["wrap", .. job, "--account", Sentry.Account, "--dry", "--", "/bin/true"]);
        Assert.DoesNotContain(
            Day(1),
            dry.Output[dry.Output.IndexOf("next moments", StringComparison.Ordinal)..],
            StringComparison.Ordinal
        );
        await sentry.Wrap(job[0], [.. job[1..], "--", "/bin/true"]);
        await sentry.Until("tide-pull", view => Next(view) == Day(3));
        await File.WriteAllTextAsync(file, $"{Day(1)}\n{Day(3)}\n");
        await sentry.Ok("adjust", "tide-pull", "--title", "Tide pull"); // each saving reads it anew
        await sentry.Until("tide-pull", view => Next(view) == Day(4));
        var ahead = await sentry.Ok("ahead", "tide-pull", "--for", "7d");
        Assert.Contains($"but not on {Day(2)} {file}", ahead.Output, StringComparison.Ordinal);

        File.Delete(file);
        await sentry.Ok("adjust", "tide-pull", "--title", "Tides", "--accept", "days-unreadable");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "tide-pull")).Output.Contains("The 2 of before hold.", StringComparison.Ordinal)
        );
        await sentry.Until("tide-pull", view => Next(view) == Day(4));

        static string? Next(JsonElement view) =>
            view.GetProperty("next-moment") is { ValueKind: JsonValueKind.String } moment
                ? moment.GetString()![..10]
                : null;
    }

    private static DateTimeOffset Instant(string line) =>
        DateTimeOffset.ParseExact(
            line,
            "yyyy-MM-ddTHH:mm:ssZ",
            CultureInfo.InvariantCulture,
            DateTimeStyles.AssumeUniversal
        );

    private static string Text(JsonElement of, string name) => of.GetProperty(name).GetString()!;

    [Fact]
    public async Task A_start_runs_it_now_and_a_stop_of_this_run_leaves_its_rhythm()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "export",
            "--kind",
            "periodic",
            "--rhythm",
            "run:daily at 00:00,zone=UTC",
            "--",
            "/bin/echo",
            "done"
        );
        var done = await sentry.Ok("start", "export");
        Assert.Contains("is done: run 1 exited with code 0", done.Output, StringComparison.Ordinal);
        Assert.Equal("resting", Text(await sentry.Show("export"), "state"));

        await sentry.Wrap(
            "slow",
            "--kind",
            "periodic",
            "--rhythm",
            "run:daily at 00:00,zone=UTC",
            "--",
            "/bin/sleep",
            "675"
        );
        await sentry.Ok("start", "slow");
        await sentry.Ok("stop", "slow", "--this-run");
        Assert.Equal("resting", Text(await sentry.Show("slow"), "state"));
        await sentry.Ok("start", "slow");
        await sentry.Ok("stop", "slow");
        Assert.Equal("stopped", Text(await sentry.Show("slow"), "state"));
        var ahead = (await sentry.Ok("ahead", "--for", "2d", "--json")).Json.GetProperty("planned");
        Assert.Equal("export", Text(Assert.Single(ahead.EnumerateArray()), "service"));
        var refused = await sentry.Calm("ahead", "slow", "--skip");
        Assert.Equal(1, refused.Exit);
        Assert.Contains("has no planned moment", refused.Error, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_run_at_work_gives_way_or_is_left_and_one_that_takes_too_long_is_ended()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "takes",
            "--kind",
            "periodic",
            "--rhythm",
            Every3 + ",if-running=take-over",
            "--",
            "/bin/sleep",
            "676"
        );
        await sentry.Wrap("passes", "--kind", "periodic", "--rhythm", Every3, "--", "/bin/sleep", "677");
        await sentry.Wrap(
            "long",
            "--kind",
            "periodic",
            "--rhythm",
            "run:every 5 s from 00:00,longest=1s,again=1",
            "--pause",
            "100ms",
            "--",
            "/bin/sleep",
            "678"
        );
        await sentry.Until("long", view => Is(view, "resting", 2));
        var runs = await Runs(sentry, "long");
        Assert.All(runs.Take(2), run => Assert.Equal("too-long", Text(run, "outcome")));
        Assert.Equal("recovery", Text(runs[1], "cause")); // tried again within its slot
        await sentry.Until("takes", view => Is(view, "running", 2));
        Assert.Equal("its rhythm", Text((await Runs(sentry, "takes"))[0], "ended-by"));
        // Its moment is the same one, and may be taken a little later.
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "passes", "--kind", "moment-passed")).Output.Contains(
                "run 1 is still at work",
                StringComparison.Ordinal
            )
        );
        Assert.Single(await Runs(sentry, "passes"));
    }

    [Fact]
    public async Task A_lost_server_neither_loses_nor_doubles_a_moment()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide-pull",
            "--kind",
            "periodic",
            "--rhythm",
            Every3,
            "--",
            "/bin/sh",
            "-c",
            "echo $CALM_MOMENT; sleep 1"
        );
        await sentry.Until("tide-pull", view => Is(view, "running", 1));
        await Lost(sentry);
        await sentry.Until("tide-pull", view => Is(view, "resting", 2));
        await Lost(sentry);
        await sentry.Until("tide-pull", view => Is(view, "resting", 3));
        var moments = (await sentry.Ok("output", "tide-pull", "--raw"))
            .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Select(Instant)
            .ToList();
        Assert.InRange(moments.Count, 3, int.MaxValue);
        Assert.Equal(moments.Distinct().Order(), moments);
    }

    private static async Task Lost(Sentry sentry)
    {
        var server = sentry.ServerPid;
        Sentry.Kill(server);
        await Sentry.Eventually(() => !Sentry.Lives(server));
        await sentry.Serve();
    }

    [Fact]
    public async Task A_planned_restart_waits_while_the_program_says_that_it_is_busy()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script(
            "spool.sh",
            """
            say() { curl -s --unix-socket "$CALM_SAY" -X POST "http://say/$1" -d "$2" >/dev/null; }
            trap 'say idle ""' USR1
            say busy "ticket 12"
            while :; do sleep 0.05; done
            """
        );
        await sentry.Wrap(
            "spooler",
            "--rhythm",
            "restart:daily at 01:00,busy=said",
            "--proof",
            "up-for:0s",
            "--start",
            "--",
            "/bin/sh",
            script
        );
        await Sentry.Eventually(async () =>
        {
            // It may not have said so yet: then the moment would be taken at once.
            var why = await sentry.Ok("show", "spooler", "--json");
            return why.Json.TryGetProperty("busy", out var busy) && busy.ValueKind == JsonValueKind.String;
        });
        var taken = await sentry.Ok("ahead", "spooler", "--now");
        Assert.Contains("is taken now", taken.Output, StringComparison.Ordinal);
        await sentry.Until(
            "spooler",
            view => Text(view, "why").Contains("put off: it says that it is busy: ticket 12")
        );
        Assert.Equal(1, (await sentry.Show("spooler")).GetProperty("run").GetInt64());
        Sentry.Kill((await sentry.Show("spooler")).GetProperty("pid").GetInt32(), "USR1");
        await sentry.Until("spooler", view => Is(view, "running", 2));
        Assert.Equal("its rhythm", Text((await Runs(sentry, "spooler"))[0], "ended-by"));
    }

    [Fact]
    public async Task Two_planned_restarts_of_services_that_need_each_other_happen_in_order()
    {
        await using var sentry = await Sentry.Start();
        const string rhythm = "restart:every 5 s from 00:00";
        await sentry.Wrap("tide-store", "--rhythm", rhythm, "--proof", "up-for:300ms", "--", "/bin/sleep", "679");
        await sentry.Wrap(
            "board",
            "--rhythm",
            rhythm,
            "--need",
            "service:tide-store",
            "--proof",
            "up-for:0s",
            "--",
            "/bin/sleep",
            "680"
        );
        // Both are up before the first moment that they have in common.
        await Sentry.Eventually(() => DateTimeOffset.UtcNow.Second % 5 < 2);
        await sentry.Ok("start", "board");
        await sentry.Until("board", view => Is(view, "running", 3));
        var (stores, boards) = (await Runs(sentry, "tide-store"), await Runs(sentry, "board"));
        for (var i = 0; i < 2; i++)
        {
            // Who needs it is down before, and begins again once it is ready; its own moment may have come a little before. What is
            // waited for as a length is noted for when it was due, and the two clocks are told apart by a millisecond.
            var (down, up) = (At(stores[i], "ended"), At(stores[i + 1], "proven") - TimeSpan.FromMilliseconds(1));
            Assert.All(
                boards,
                run =>
                    Assert.True(
                        At(run, "began") >= up || At(run, "ended") <= down,
                        $"{run} between {down:O} and {up:O}"
                    )
            );
        }

        // One that goes on has not ended: at no time yet.
        static DateTimeOffset At(JsonElement run, string what) =>
            run.GetProperty(what) is { ValueKind: JsonValueKind.String } time
                ? time.GetDateTimeOffset()
                : DateTimeOffset.MaxValue;
    }

    [Fact]
    public async Task What_is_wrong_with_a_rhythm_is_said_before_anything_is_saved()
    {
        await using var sentry = await Sentry.Start();
        var none = await sentry.Calm(
            "wrap",
            "pull",
            "--account",
            Sentry.Account,
            "--kind",
            "periodic",
            "--",
            "/bin/true"
        );
        Assert.Equal(2, none.Exit);
        Assert.Contains("at least one run", none.Error, StringComparison.Ordinal);
        var wrong = await sentry.Calm("ahead", "--moments", "every fortnight");
        Assert.Contains("allowed: a number and s, min, h, days", wrong.Error, StringComparison.Ordinal);
        var stays = await sentry.Calm(
            "wrap",
            "pull",
            "--account",
            Sentry.Account,
            "--rhythm",
            Every3,
            "--",
            "/bin/true"
        );
        Assert.Contains("is for jobs (kind: periodic)", stays.Error, StringComparison.Ordinal);
        var job = await sentry.Calm("stop", "nobody");
        Assert.Equal(4, job.Exit);

        var moments = await sentry.Ok("ahead", "--moments", "daily at 02:30", "--zone", "Asia/Kolkata");
        Assert.Equal(10, moments.Output.Split('\n').Count(line => line.Contains("02:30:00", StringComparison.Ordinal)));
        Assert.Contains("here ", moments.Output, StringComparison.Ordinal); // the host's clock shows something else
    }
}
