namespace CalmSentry.Tests.EndToEnd;

/// <summary>A machine in trouble, and one on which nothing is to be begun.</summary>
public class StandingTests
{
    [Fact]
    public async Task The_sentry_is_kept_from_the_choice_when_memory_runs_out_and_its_programs_are_not()
    {
        await using var sentry = await Sentry.StartGuarded();
        // A machine may keep that from its root, too (CAP_SYS_RESOURCE); then all stay as they are.
        var kept =
            (await Sentry.As(Environment.UserName, "sh", "-c", "echo -900 >/proc/self/oom_score_adj")).Exit == 0
                ? "-900"
                : "0";
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "691");
        var program = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        foreach (var own in new[] { await sentry.Guard(), await sentry.Server(), Sentry.Parent(program) })
            Assert.Equal(kept, Standing(own));
        Assert.Equal("0", Standing(program));
        // What is run for a check or a proof is a program's, too.
        var seen = Path.Combine(sentry.Places.StateOf("board"), "standing");
        await sentry.Wrap(
            "board",
            "--proof",
            "command:" + sentry.Script("looks", $"#!/bin/sh\ncat /proc/self/oom_score_adj >{seen.Quoted()}\n").Quoted(),
            "--start",
            "--",
            "/bin/sleep",
            "692"
        );
        Assert.Equal("0", (await File.ReadAllTextAsync(seen, TestContext.Current.CancellationToken)).Trim());
    }

    [Fact]
    public async Task Programs_get_the_hosts_usual_limit_of_open_files_not_the_sentrys_raised_one()
    {
        // Whoever starts the sentry may have less open than he could ask for; its runtime asks for all.
        await using var sentry = await Sentry.Start("sh", "-c", "ulimit -Sn 777; \"$0\" \"$@\"");
        await sentry.Wrap(
            "tide",
            "--proof",
            "output:777",
            "--start",
            "--",
            sentry.Script("tide", "#!/bin/sh\nulimit -Sn\nulimit -Sn 778 && echo may ask for more\nexec sleep 693\n")
        );
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "tide")).Output.Contains("may ask for more", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_machine_can_come_up_with_nothing_begun_and_list_and_status_say_so()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--at", "boot", "--start", "--", "/bin/sleep", "694");
        await sentry.Wrap("board", "--at", "boot-late", "--start", "--", "/bin/sleep", "695");
        await sentry.Ok("host", "wind-down");
        await sentry.KillServer();
        Directory.CreateDirectory(Path.GetDirectoryName(sentry.Places.BeginNothing)!);
        await File.WriteAllTextAsync(sentry.Places.BeginNothing, "", TestContext.Current.CancellationToken);

        await sentry.Serve(); // as after a boot: what was wound down would begin
        var listed = await sentry.Ok("list", "--json");
        Assert.All(
            listed.Json.EnumerateArray(),
            view => Assert.Equal("stopped", view.GetProperty("state").GetString())
        );
        Assert.Contains("Nothing was started at this boot", listed.Error, StringComparison.Ordinal);
        Assert.Contains("begin-nothing is there", (await sentry.Ok("host", "status")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "nothing was to be started",
            (await sentry.Ok("logbook", "tide")).Output,
            StringComparison.Ordinal
        );

        // It is said until somebody has started what would have begun.
        await sentry.Ok("start", "tide", "board");
        Assert.DoesNotContain("Nothing was started", (await sentry.Ok("list")).Error, StringComparison.Ordinal);
    }

    private static string Standing(int pid) => File.ReadAllText($"/proc/{pid}/oom_score_adj").Trim();
}
