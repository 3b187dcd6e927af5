namespace CalmSentry.Tests.EndToEnd;

/// <summary>One run at a time, and nothing of a run survives its stop.</summary>
public class RunTests
{
    [Fact]
    public async Task Many_starts_at_once_make_one_run()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("counter", "--", sentry.Script("counter", "#!/bin/sh\necho begun\nexec sleep 600\n"));
        var said = await Task.WhenAll(Enumerable.Range(0, 8).Select(_ => sentry.Calm("start", "counter")));
        Assert.All(said, one => Assert.Equal(0, one.Exit));
        Assert.Single(sentry.Processes("counter"));
        Assert.Equal(1, (await sentry.Show("counter")).GetProperty("run").GetInt64());
        Assert.Equal("begun\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("counter")));
    }

    [Fact]
    public async Task A_second_server_on_the_same_root_is_refused()
    {
        await using var sentry = await Sentry.Start();
        var first = sentry.ServerPid;
        var refused = await Assert.ThrowsAnyAsync<Exception>(sentry.Serve);
        Assert.Contains("another sentry already serves", refused.Message, StringComparison.Ordinal);
        await sentry.Ok("list");
        Sentry.Kill(first, "TERM");
    }

    [Theory]
    [InlineData(true)]
    [InlineData(false)] // without root there is no control group: the tree is known by descent alone
    public async Task A_tree_that_ignores_TERM_and_leaves_its_session_is_ended_whole(bool asRoot)
    {
        await using var sentry = await (asRoot ? Sentry.Start() : Sentry.StartWithoutRoot());
        var stubborn = sentry.Script(
            "stubborn",
            "#!/bin/sh\ntrap '' TERM HUP INT\n[ \"$1\" = leaf ] && while :; do sleep 1; done\nsetsid \"$0\" leaf "
                + "&\n(\"$0\" leaf &) &\nwhile :; do sleep 1; done\n"
        );
        await sentry.Wrap(
            "stubborn",
            "--wind-down",
            "INT 200ms",
            "--wind-down",
            "TERM 200ms",
            "--start",
            "--",
            stubborn
        );
        Assert.True(sentry.Processes("stubborn").Count >= 3);
        var before = sentry.Processes("stubborn");
        var stopped = await sentry.Ok("stop", "stubborn");
        Assert.Contains("killed", stopped.Output, StringComparison.Ordinal);
        Assert.DoesNotContain(before, Sentry.Lives);
        Assert.Empty(sentry.Processes("stubborn"));
        Assert.Contains(
            "INT did not stop it within 200 ms",
            (await sentry.Ok("logbook", "stubborn")).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_wrapper_script_that_ends_first_leaves_its_program_time_to_finish()
    {
        await using var sentry = await Sentry.Start();
        var done = Path.Combine(sentry.Places.StateOf("wrapper"), "books-closed");
        var program = sentry.Script(
            "ledger",
            $"#!/bin/sh\ntrap \"sleep 0.3; echo closed > {done.Quoted()}; exit 0\" TERM\nwhile :; do sleep 0.05; done\n"
        );
        var wrapper = sentry.Script("wrapper", $"#!/bin/sh\n{program.Quoted()} &\nwait\n");
        await sentry.Wrap("wrapper", "--start", "--", wrapper);
        await sentry.Ok("stop", "wrapper");
        Assert.Equal("closed\n", await File.ReadAllTextAsync(done));
    }

    [Fact]
    public async Task A_program_that_always_falls_is_held_until_somebody_starts_it()
    {
        await using var sentry = await Sentry.Start();
        var flag = Path.Combine(sentry.Places.Root, "mended");
        await sentry.Wrap(
            "gate-counter",
            "--pause",
            "5ms",
            "--",
            sentry.Script("gate", $"#!/bin/sh\n[ -e {flag.Quoted()} ] && exec sleep 600\nexit 7\n")
        );
        Assert.Equal(1, (await sentry.Calm("start", "gate-counter")).Exit);
        var held = await sentry.Until("gate-counter", view => view.GetProperty("state").GetString() == "held");
        Assert.Equal(5, held.GetProperty("run").GetInt64());
        Assert.Contains("code 7", held.GetProperty("why").GetString(), StringComparison.Ordinal);
        await File.WriteAllTextAsync(flag, "");
        Assert.Contains("run 6", (await sentry.Ok("start", "gate-counter")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Unwrapping_a_running_service_stops_it_first()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("counter", "--start", "--", "/bin/sleep", "600");
        var pid = (await sentry.Show("counter")).GetProperty("pid").GetInt32();
        await sentry.Ok("unwrap", "counter", "--yes", "--with-output");
        Assert.False(Sentry.Lives(pid));
        Assert.False(Directory.Exists(sentry.Places.OutputDirectoryOf("counter")));
        await sentry.Wrap("counter", "--start", "--", "/bin/sleep", "600"); // the name is free again
    }

    [Fact]
    public async Task Without_root_it_works_for_ones_own_account_and_says_what_it_cannot_do()
    {
        await using var sentry = await Sentry.StartWithoutRoot();
        await sentry.Ok("wrap", "counter", "--start", "--", "/bin/sleep", "600"); // the account left out is the caller's
        Assert.Equal(Sentry.Account, (await sentry.Show("counter")).GetProperty("account").GetString());
        var other = await sentry.Calm("wrap", "other", "--account", "root", "--", "/bin/sleep", "600");
        Assert.Equal(
            (1, true),
            (other.Exit, other.Error.Contains("can run services only as that account", StringComparison.Ordinal))
        );
        using var client = sentry.Http();
        Assert.Contains(
            "Not run as root",
            await client.GetStringAsync("http://sentry/api/sentry"),
            StringComparison.Ordinal
        );
        await sentry.KillServer();
        await sentry.Serve();
        Assert.Equal("running", (await sentry.Show("counter")).GetProperty("state").GetString());
    }
}
