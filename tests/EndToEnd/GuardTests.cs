using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>The server guarded: whoever of the two is killed, both are back, and programs never notice.</summary>
public class GuardTests
{
    [Fact]
    public async Task Killed_twenty_times_in_a_row_every_program_keeps_its_pid()
    {
        await using var sentry = await Sentry.StartGuarded();
        foreach (var name in new[] { "tide", "board", "relay" })
            await sentry.Wrap(
                name,
                "--proof",
                "up-for:0s",
                "--start",
                "--accept",
                "copy-running",
                "--",
                "/bin/sleep",
                "600"
            );
        var pids = await Pids(sentry);
        for (var i = 0; i < 20; i++)
        {
            var server = await sentry.Server();
            Sentry.Kill(server);
            await Sentry.Eventually(async () => await sentry.Server() is var next && next != 0 && next != server);
            Assert.Equal(pids, await Pids(sentry));
        }

        var entries = (await sentry.Ok("logbook", "--last", "1000", "--json"))
            .Json.EnumerateArray()
            .Where(entry => entry.GetProperty("code").GetString() == "guard")
            .Select(entry => entry.GetProperty("text").GetString()!)
            .ToList();
        Assert.Equal(20, entries.Count);
        Assert.Contains("was killed by signal KILL", entries[0], StringComparison.Ordinal);
        Assert.Contains("began it again at once", entries[0], StringComparison.Ordinal);
        Assert.Contains("after a pause of ", entries[19], StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_killed_guard_is_replaced_and_the_next_one_guards_the_same_server()
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        var (pids, server, guard) = (await Pids(sentry), await sentry.Server(), await sentry.Guard());
        Sentry.Kill(guard);
        await Sentry.Eventually(async () => await sentry.Guard() is var next && next != 0 && next != guard);
        Assert.Equal(server, await sentry.Server());
        Sentry.Kill(server);
        await Sentry.Eventually(async () => await sentry.Server() is var next && next != 0 && next != server);
        Assert.Equal(pids, await Pids(sentry));
    }

    [Fact]
    public async Task Guard_and_server_killed_together_the_next_start_takes_everything_up()
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        var pids = await Pids(sentry);
        Process.Start("kill", ["-KILL", $"{await sentry.Guard()}", $"{await sentry.Server()}"]).WaitForExit();
        await sentry.ServeGuarded();
        Assert.Equal(pids, await Pids(sentry));
        Assert.Equal("running", (await sentry.Show("tide")).GetProperty("state").GetString());
    }

    private static async Task<string> Pids(Sentry sentry) =>
        string.Join(
            ", ",
            (await sentry.Ok("list", "--json"))
                .Json.EnumerateArray()
                .Select(view =>
                    $"{view.GetProperty("name").GetString()} {view.GetProperty("pid").GetRawText()} "
                    + $"{view.GetProperty("run").GetRawText()}"
                )
        );
}
