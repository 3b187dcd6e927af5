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
        var second = 0;
        await Sentry.Eventually(async () => (second = await sentry.Guard()) != 0 && second != guard);
        Assert.Contains("\0guard-on\0", Sentry.CommandLine(second), StringComparison.Ordinal); // and not as a second any more
        Assert.Equal(server, await sentry.Server());
        Sentry.Kill(server);
        await Sentry.Eventually(async () => await sentry.Server() is var next && next != 0 && next != server);
        Assert.Equal(pids, await Pids(sentry));
    }

    [Fact]
    public async Task Guard_and_server_killed_in_one_moment_come_back_by_themselves()
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "671");
        var pids = await Pids(sentry);
        for (var times = 0; times < 3; times++)
        {
            var (guard, server) = (await sentry.Guard(), await sentry.Server());
            Process.Start("kill", ["-KILL", $"{guard}", $"{server}"]).WaitForExit();
            await Sentry.Eventually(async () =>
                await sentry.Server() is var next && next != 0 && next != server && await sentry.Guard() is not 0
            );
            Assert.Equal(pids, await Pids(sentry));
        }
    }

    /// <summary>Nobody of the sentry is left but the keeper of a program: it begins a guard as the last one was begun.</summary>
    /// <param name="wiped">What they had in the run directory is gone with them.</param>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Guard_second_and_server_killed_in_one_moment_come_back_as_long_as_a_program_runs(bool wiped)
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "674");
        var pids = await Pids(sentry);
        for (var times = 0; times < 2; times++)
        {
            var (guard, server) = (await sentry.Guard(), await sentry.Server());
            await Sentry.Eventually(() => Second(guard) != 0);
            Process.Start("kill", ["-KILL", $"{Second(guard)}", $"{guard}", $"{server}"]).WaitForExit();
            if (wiped)
                Directory.Delete(sentry.Places.RunDirectory, recursive: true);
            await Sentry.Eventually(async () =>
                await sentry.Server() is var next && next != 0 && next != server && await sentry.Guard() is not 0
            );
            Assert.Equal(pids, await Pids(sentry));
        }
    }

    [Fact]
    public async Task Whoever_is_begun_while_a_guard_takes_its_time_to_end_follows_it()
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "675");
        var (pids, guard, server) = (await Pids(sentry), await sentry.Guard(), await sentry.Server());
        Sentry.Kill(server, "STOP"); // it does not end before its guard ends it by force
        Sentry.Kill(guard, "TERM");
        using var next = Sentry.Began(
            Environment.UserName,
            sentry.Program("calm-keeper"),
            "guard",
            sentry.Places.RunDirectory,
            sentry.Program("calm-sentry"),
            "serve",
            "--root",
            sentry.Places.Root,
            "--port",
            "0"
        );
        await Sentry.Eventually(() => Task.FromResult(!Sentry.Lives(server)));
        await Sentry.Eventually(async () => await sentry.Server() != 0 && await sentry.Guard() == next.Id);
        Assert.Equal(pids, await Pids(sentry));
    }

    [Fact]
    public async Task The_second_is_replaced_and_a_guard_leaves_nothing_open_at_a_fall_of_its_server()
    {
        await using var sentry = await Sentry.StartGuarded();
        var guard = await sentry.Guard();
        var second = Second(guard);
        Sentry.Kill(second);
        await Sentry.Eventually(() => Second(guard) is var next && next != 0 && next != second);

        var before = Directory.GetFiles($"/proc/{guard}/fd").Length;
        for (var times = 0; times < 5; times++)
        {
            var server = await sentry.Server();
            Sentry.Kill(server);
            await Sentry.Eventually(async () => await sentry.Server() is var next && next != 0 && next != server);
        }

        await Sentry.Eventually(() => Directory.GetFiles($"/proc/{guard}/fd").Length <= before);
    }

    [Fact]
    public async Task With_its_run_directory_wiped_one_guard_and_one_server_come_back_and_programs_keep_their_pids()
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "672");
        var (pids, guard) = (await Pids(sentry), await sentry.Guard());
        Directory.Delete(sentry.Places.RunDirectory, recursive: true);
        await Sentry.Eventually(async () => await sentry.Server() != 0 && await sentry.Guard() != 0);
        Assert.Equal(guard, await sentry.Guard());
        Assert.Equal(pids, await Pids(sentry));
        // A child on its way to another program looks like its parent for a moment.
        await Sentry.Eventually(() => Running(sentry, "serve").Count == 1 && Running(sentry, "guard-on").Count == 1);
        await sentry.Ok("stop", "tide");
    }

    [Fact]
    public async Task A_server_that_does_nothing_any_more_is_ended_by_its_guard()
    {
        await using var sentry = await Sentry.StartGuarded();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "673");
        var (pids, server) = (await Pids(sentry), await sentry.Server());
        Process.Start("kill", ["-STOP", $"{server}"]).WaitForExit();
        await Sentry.Eventually(async () => await sentry.Server() is not 0 and var next && next != server);
        Assert.Equal(pids, await Pids(sentry));
        Assert.Contains(
            $"The server (pid {server}) gave no sign of life for half a minute and was ended",
            (await sentry.Ok("logbook")).Output,
            StringComparison.Ordinal
        );
    }

    /// <summary>The process beside the server that the guard has started.</summary>
    private static int Second(int guard) =>
        File.ReadAllText($"/proc/{guard}/task/{guard}/children")
            .Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .Select(int.Parse)
            .FirstOrDefault(pid => Sentry.CommandLine(pid).Contains("guard-second", StringComparison.Ordinal));

    /// <summary>Processes of this sentry that were begun with a word.</summary>
    private static List<string> Running(Sentry sentry, string word) =>
        [
            .. Directory
                .EnumerateDirectories("/proc")
                .Select(Path.GetFileName)
                .Where(name => name!.All(char.IsAsciiDigit))
                .Select(name => Sentry.CommandLine(int.Parse(name!)))
                .Where(line =>
                    line.Contains($"\0{word}\0", StringComparison.Ordinal)
                    && line.Contains(sentry.Places.Root, StringComparison.Ordinal)
                    && (word != "serve" || !line.Contains("guard-", StringComparison.Ordinal))
                ),
        ];

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
