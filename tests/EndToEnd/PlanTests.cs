namespace CalmSentry.Tests.EndToEnd;

/// <summary>What spans several services goes on where it was when the server is lost in the middle of it.</summary>
public class PlanTests
{
    private static readonly string[] Names = ["tide", "ledger", "asked"];

    [Fact]
    public async Task A_drill_goes_on_and_comes_to_its_report()
    {
        await using var sentry = await Fleet();
        var drill = sentry.Calm("drill", "--yes");
        await LostWhileStopping(sentry);
        var away = await drill;
        Assert.Equal(5, away.Exit);
        Assert.Contains(
            "The sentry went away; the drill goes on with the next one",
            away.Error,
            StringComparison.Ordinal
        );
        await Running(sentry, "tide", "ledger", "asked");
        Said last = new(1, "", "");
        await Sentry.Eventually(async () =>
            (last = await sentry.Calm("drill", "--last", "--json")) is { Exit: 0 or 1, Output.Length: > 0 }
            && last.Json.GetProperty("done").GetBoolean()
        );
        Assert.Equal("drill", last.Json.GetProperty("kind").GetString());
        Assert.Contains("goes on with it", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Whoever_follows_the_logbook_is_told_that_the_sentry_went_away()
    {
        await using var sentry = await Fleet();
        using var follow = sentry.Open("logbook", "--follow");
        Assert.NotNull(await follow.StandardOutput.ReadLineAsync(TestContext.Current.CancellationToken));
        await sentry.Ok("stop", "ledger"); // what follows has come to its stream
        while (await follow.StandardOutput.ReadLineAsync(TestContext.Current.CancellationToken) is { } line)
            if (line.Contains("Stop", StringComparison.OrdinalIgnoreCase))
                break;
        await sentry.KillServer();
        await follow.WaitForExitAsync(TestContext.Current.CancellationToken);
        Assert.Equal(5, follow.ExitCode);
        Assert.StartsWith(
            "calm: The sentry went away",
            await follow.StandardError.ReadToEndAsync(TestContext.Current.CancellationToken),
            StringComparison.Ordinal
        );
        await sentry.Serve();
    }

    [Fact]
    public async Task A_stop_with_dependents_comes_to_its_end()
    {
        await using var sentry = await Fleet();
        var stop = sentry.Calm("stop", "tide", "--with-dependents");
        await LostWhileStopping(sentry);
        await stop;
        await sentry.Until("ledger", view => State(view) == "stopped");
        // The service itself is stopped by whoever asked for it, who was told that the sentry went away.
        await sentry.Ok("stop", "tide");
        Assert.Empty(sentry.Processes("tide"));
    }

    [Fact]
    public async Task A_restart_with_dependents_leaves_none_of_them_down()
    {
        await using var sentry = await Fleet();
        var restart = sentry.Calm("restart", "tide", "--with-dependents");
        await LostWhileStopping(sentry);
        await restart;
        await sentry.Until("tide", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);
        await sentry.Until("ledger", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);
    }

    [Fact]
    public async Task A_wind_down_goes_on_and_the_next_start_begins_what_begins_with_the_machine()
    {
        await using var sentry = await Fleet();
        var down = sentry.Calm("host", "wind-down");
        await LostWhileStopping(sentry);
        await down;
        foreach (var name in Names)
            await sentry.Until(name, view => State(view) == "stopped");
        Assert.Contains("goes on with it", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "--json"))
                .Json.EnumerateArray()
                .Any(entry => entry.GetProperty("code").GetString() == "wound-down")
        );
        await sentry.KillServer();
        await sentry.Serve();
        await Running(sentry, "tide", "ledger");
        Assert.Equal("stopped", State(await sentry.Show("asked")));
    }

    [Fact]
    public async Task A_machine_that_went_down_before_all_was_wound_down_is_known_as_such()
    {
        await using var sentry = await Fleet();
        var down = sentry.Calm("host", "wind-down");
        await sentry.Until("ledger", view => State(view) == "stopping");
        await sentry.KillServer();
        await down;
        // The machine takes programs and keepers with it.
        var programs = Names.SelectMany(sentry.Processes).ToList();
        foreach (var keeper in programs.Select(Sentry.Parent).Where(parent => parent > 1).Except(programs).Distinct())
            Sentry.Kill(keeper);
        while (Names.SelectMany(sentry.Processes).ToList() is { Count: > 0 } left)
            left.ForEach(pid => Sentry.Kill(pid));

        await sentry.ChangeStore("UPDATE fact SET value = 'another boot' WHERE key = 'boot-id'");
        await sentry.Serve();
        Assert.Contains(
            "went down before all was wound down: ledger, tide",
            (await sentry.Ok("logbook")).Output,
            StringComparison.Ordinal
        );
        await Running(sentry, "tide", "ledger");
    }

    [Fact]
    public async Task What_begins_late_waits_for_the_rest_of_a_boot_and_no_longer_when_the_server_is_lost_meanwhile()
    {
        await using var sentry = await Sentry.Start();
        var ready = Path.Combine(sentry.Places.Root, "ready");
        await sentry.Wrap("tide", "--at", "boot", "--proof", $"file:{ready}", "--", "/bin/sleep", "701");
        await sentry.Wrap("late", "--at", "boot-late", "--", "/bin/sleep", "702");
        await sentry.KillServer();
        await sentry.ChangeStore("UPDATE fact SET value = 'another boot' WHERE key = 'boot-id'");
        await sentry.Serve();
        await sentry.Until("tide", view => State(view) == "starting");
        await sentry.Until("late", view => State(view) == "waiting");
        await sentry.KillServer();
        await sentry.Serve();
        Assert.Equal("waiting", State(await sentry.Show("late")));
        await File.WriteAllTextAsync(ready, "", TestContext.Current.CancellationToken);
        await Running(sentry, "tide", "late");
    }

    /// <summary>Two that begin with the machine, one of which needs the other, and one that was asked for; their stops take a while.</summary>
    private static async Task<Sentry> Fleet()
    {
        var sentry = await Sentry.Start();
        var program = sentry.Script("slow", "#!/bin/sh\ntrap 'sleep 1.5; exit 0' TERM\nwhile :; do sleep 0.1; done\n");
        await sentry.Wrap("tide", "--at", "boot", "--proof", "up-for:50ms", "--", program, "tide");
        await sentry.Wrap(
            "ledger",
            "--at",
            "boot",
            "--need",
            "service:tide",
            "--proof",
            "up-for:50ms",
            "--",
            program,
            "ledger"
        );
        await sentry.Wrap("asked", "--at", "request", "--proof", "up-for:50ms", "--", program, "asked");
        await sentry.Ok("start", "--all");
        return sentry;
    }

    private static async Task LostWhileStopping(Sentry sentry)
    {
        await sentry.Until("ledger", view => State(view) == "stopping");
        await sentry.KillServer();
        await sentry.Serve();
    }

    private static async Task Running(Sentry sentry, params string[] names)
    {
        foreach (var name in names)
            await sentry.Until(name, view => State(view) == "running");
    }

    private static string? State(System.Text.Json.JsonElement view) => view.GetProperty("state").GetString();
}
