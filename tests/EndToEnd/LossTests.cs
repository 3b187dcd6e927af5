using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// Server, keeper, program and machine lost in every combination: the outcome is known and never are there two runs.
/// </summary>
public class LossTests
{
    [Fact]
    public async Task Server_and_program_both_killed_the_outcome_is_known()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--recover", "never", "--start", "--", "/bin/sleep", "600");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        var directory = sentry.Places.RunOf(await sentry.Id("relay"));
        await sentry.KillServer();
        Sentry.Kill(pid, "SEGV");
        await Gone(directory);
        await sentry.Serve();
        var shown = await sentry.Show("relay");
        Assert.Equal("stopped", shown.GetProperty("state").GetString());
        var run = shown.GetProperty("runs")[0];
        Assert.Equal(("signalled", 11), (run.GetProperty("outcome").GetString(), run.GetProperty("code").GetInt32()));
        Assert.Contains("SEGV", shown.GetProperty("why").GetString(), StringComparison.Ordinal);
    }

    [Fact]
    public async Task An_older_store_that_is_put_back_gives_no_id_and_no_number_again_and_what_it_does_not_know_is_taken_up()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("ferry", "--start", "--", "/bin/sleep", "601");
        await sentry.Wrap("crane", "--recover", "never", "--start", "--", "/bin/sleep", "602");
        await sentry.Ok("stop", "crane");
        await sentry.EndServer();
        var older = File.ReadAllBytes(sentry.Places.Database);
        await sentry.Serve();
        await sentry.Ok("restart", "ferry");
        await sentry.Ok("adjust", "ferry", "--title", "Little ferry");
        await sentry.Wrap("bell", "--start", "--", "/bin/sleep", "603");
        // Of this one the older store knows another of the same name.
        await sentry.Ok("unwrap", "crane", "--yes");
        await sentry.Wrap("crane", "--start", "--", "/bin/sleep", "602");
        var ferry = (await sentry.Show("ferry")).GetProperty("pid").GetInt32();
        var bell = (await sentry.Show("bell")).GetProperty("pid").GetInt32();
        var crane = (await sentry.Show("crane")).GetProperty("pid").GetInt32();
        await sentry.KillServer();
        foreach (var end in (string[])["-wal", "-shm"])
            File.Delete(sentry.Places.Database + end);
        File.WriteAllBytes(sentry.Places.Database, older);

        await sentry.Serve();
        Assert.Equal(ferry, (await sentry.Until("ferry", IsRunning)).GetProperty("pid").GetInt32());
        Assert.Equal(bell, (await sentry.Until("bell", IsRunning)).GetProperty("pid").GetInt32());
        var log = (await sentry.Ok("logbook", "--last", "100")).Output;
        Assert.Contains(
            "The store does not know these services, as where an older one was put back: bell.",
            log,
            StringComparison.Ordinal
        );
        Assert.Contains($"which is not in the store, run: pid {crane} (", log, StringComparison.Ordinal);
        Assert.Contains("is of revision 2, and the store has revision 1", log, StringComparison.Ordinal);
        await sentry.Ok("adjust", "ferry", "--from", Path.Combine(sentry.Places.Definitions, "ferry.later"));
        Assert.Equal("Little ferry", (await sentry.Show("ferry")).GetProperty("title").GetString());
        // What runs though nobody knows it is a copy, and no second one is begun.
        var refused = await sentry.Calm("start", "crane");
        Assert.Equal(1, refused.Exit);
        Assert.Contains($"{crane}", refused.Told, StringComparison.Ordinal);
        await sentry.Ok("start", "crane", "--end-copies");
        Assert.False(Sentry.Lives(crane));
        await sentry.Wrap("winch", "--start", "--", "/bin/sleep", "604");
        string[] ids =
        [
            await sentry.Id("bell"),
            await sentry.Id("crane"),
            await sentry.Id("winch"),
            await sentry.Id("ferry"),
        ];
        Assert.Equal(4, ids.Distinct().Count());
        Assert.Equal("S5", ids[2]);
        await sentry.Ok("stop", "bell");
        await sentry.Ok("start", "bell");
        Assert.Equal(2, (await sentry.Show("bell")).GetProperty("run").GetInt64());

        static bool IsRunning(System.Text.Json.JsonElement view) => view.GetProperty("state").GetString() == "running";
    }

    /// <summary>Its keeper stays until the outcome is written down, or somebody is there to be told.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task An_end_that_no_disk_takes_while_no_server_watches_is_known_all_the_same(bool roomIsMade)
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--recover", "never", "--", "/bin/sleep", "600");
        var directory = sentry.Places.RunOf(await sentry.Id("relay"));
        Directory.CreateDirectory(directory);
        await Sentry.As("root", "mount", "-t", "tmpfs", "-o", "size=64k,mode=755", "small", directory);
        try
        {
            await sentry.Ok("start", "relay");
            var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
            var keeper = Sentry.Parent(pid);
            await sentry.KillServer();
            var fill = Path.Combine(directory, "fill");
            await Sentry.As("root", "sh", "-c", $"cat /dev/zero > {fill.Quoted()}");
            Sentry.Kill(pid, "INT");
            await Sentry.Eventually(() => Task.FromResult(!Sentry.Lives(pid)));
            Assert.Empty(Directory.GetFiles(directory, "outcome.*"));
            Assert.True(Sentry.Lives(keeper));
            if (roomIsMade)
            {
                File.Delete(fill);
                await Sentry.Eventually(() => Task.FromResult(!Sentry.Lives(keeper)));
            }

            await sentry.Serve();
            await sentry.Until("relay", view => view.GetProperty("state").GetString() == "stopped");
            var run = (await sentry.Show("relay")).GetProperty("runs")[0];
            Assert.Equal(
                ("signalled", 2),
                (run.GetProperty("outcome").GetString(), run.GetProperty("code").GetInt32())
            );
        }
        finally
        {
            await Sentry.As("root", "umount", "-l", directory);
        }
    }

    [Fact]
    public async Task Groups_of_looks_that_a_killed_server_left_are_gone_with_what_is_in_them()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "600");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        if (Sentry.Group(pid) is not { } group)
        {
            Assert.Skip("this host has no version 2 control groups");
            return;
        }

        await sentry.KillServer();
        var left = new[] { Path.Combine(Path.GetDirectoryName(group)!, "look-left"), Path.Combine(group, "look-left") };
        foreach (var one in left)
            Directory.CreateDirectory(one);
        using var lost = Sentry.Began("root", "/bin/sleep", "599");
        await File.WriteAllTextAsync(Path.Combine(left[0], "cgroup.procs"), $"{lost.Id}");
        await sentry.Serve();
        await lost.WaitForExitAsync(TestContext.Current.CancellationToken);
        await sentry.KillServer(); // what still had a process in it goes at the next start
        await sentry.Serve();
        Assert.All(left, one => Assert.False(Directory.Exists(one)));
        Assert.Equal(pid, (await sentry.Show("relay")).GetProperty("pid").GetInt32());
    }

    [Fact]
    public async Task How_long_there_was_no_sentry_is_told_when_it_is_back()
    {
        await using var sentry = await Sentry.Start();
        await sentry.KillServer();
        var beat = DateTime.UtcNow - TimeSpan.FromSeconds(76);
        File.SetLastWriteTimeUtc(sentry.Places.ServerBeat, beat);
        await sentry.Serve();
        var log = (await sentry.Ok("logbook")).Output.ReplaceLineEndings(" ");
        Assert.Contains("The sentry was not there from", log, StringComparison.Ordinal);
        Assert.Contains("ended without being asked", log, StringComparison.Ordinal);

        await sentry.EndServer();
        File.SetLastWriteTimeUtc(sentry.Places.ServerBeat, beat);
        await sentry.Serve();
        log = (await sentry.Ok("logbook", "--last", "3")).Output.ReplaceLineEndings(" ");
        Assert.Contains("it had been ended", log, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_program_that_fell_while_no_server_watched_is_brought_back()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "600");
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        var directory = sentry.Places.RunOf(await sentry.Id("relay"));
        await sentry.KillServer();
        Sentry.Kill(pid);
        await Gone(directory);
        await sentry.Serve();
        var back = await sentry.Until("relay", view => view.GetProperty("state").GetString() == "running");
        Assert.Equal(2, back.GetProperty("run").GetInt64());
    }

    [Fact]
    public async Task A_killed_keeper_leaves_no_second_copy_behind()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", sentry.Script("relay", "#!/bin/sh\nsleep 600 &\nexec sleep 600\n"));
        var before = sentry.Processes("relay");
        Assert.Equal(2, before.Count);
        var stat = await File.ReadAllTextAsync(
            $"/proc/{(await sentry.Show("relay")).GetProperty("pid").GetInt32()}/stat"
        );
        Sentry.Kill(
            int.Parse(
                stat[(stat.LastIndexOf(')') + 4)..].Split(' ')[0],
                System.Globalization.CultureInfo.InvariantCulture
            )
        ); // the parent: its keeper
        await sentry.Until(
            "relay",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == 2
        );
        Assert.DoesNotContain(before, Sentry.Lives);
        Assert.Equal(2, sentry.Processes("relay").Count);
        Assert.Equal(
            "keeper-lost",
            (await sentry.Show("relay")).GetProperty("runs")[1].GetProperty("outcome").GetString()
        );
    }

    [Fact]
    public async Task A_power_cut_that_takes_the_latest_records_with_it_has_no_number_given_twice()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("board", "--at", "boot", "--start", "--", "/bin/sleep", "611");
        await sentry.Ok("restart", "board");
        var last = (await sentry.Show("board")).GetProperty("run").GetInt64();
        await sentry.KillServer();
        foreach (var pid in sentry.Processes("board"))
        {
            Sentry.Kill(Sentry.Parent(pid));
            Sentry.Kill(pid);
        }

        Directory.Delete(sentry.Places.RunDirectory, recursive: true);
        // What was committed since the first start went with the machine.
        await sentry.ChangeStore(
            "DELETE FROM run WHERE number > 1; UPDATE fact SET value = 'the boot before' WHERE key = 'boot-id'; "
                + "UPDATE service SET situation = json_set(situation, '$.last-run', 1, '$.run.number', 1)"
        );
        await sentry.Serve();
        var run = (await sentry.Until("board", Runs)).GetProperty("run").GetInt64();
        Assert.InRange(run, last + 1, last + 16);
        Assert.Contains("are left out", (await sentry.Ok("logbook", "board")).Output, StringComparison.Ordinal);
        // A server that ends as it should gives back what it had reserved.
        await sentry.EndServer();
        await sentry.ChangeStore("UPDATE fact SET value = 'the boot before' WHERE key = 'boot-id'");
        foreach (var pid in sentry.Processes("board"))
            Sentry.Kill(pid);
        await sentry.Serve();
        var next = (await sentry.Until("board", Runs)).GetProperty("run").GetInt64();
        Assert.Equal(run + 1, next);

        static bool Runs(System.Text.Json.JsonElement view) => view.GetProperty("state").GetString() == "running";
    }

    [Fact]
    public async Task After_another_boot_what_ran_is_recorded_as_lost_with_the_machine()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("board", "--at", "boot", "--start", "--", "/bin/sleep", "600");
        await sentry.Wrap("relay", "--at", "request", "--start", "--", "/bin/sleep", "600");
        await sentry.KillServer();
        // A power cut: no keeper, no program, and a directory for runtime files that is empty.
        foreach (
            var process in System
                .Diagnostics.Process.GetProcessesByName("calm-keeper")
                .Where(keeper => Sentry.CommandLine(keeper.Id).Contains(sentry.Places.Root, StringComparison.Ordinal))
        )
            Sentry.Kill(process.Id);
        foreach (var pid in sentry.Processes("board").Concat(sentry.Processes("relay")))
            Sentry.Kill(pid);
        Directory.Delete(sentry.Places.RunDirectory, recursive: true);
        await using (var store = new SqliteConnection($"Data Source={sentry.Places.Database};Pooling=False"))
        {
            await store.OpenAsync();
            await using var command = store.CreateCommand();
            command.CommandText = "UPDATE fact SET value = 'the boot before' WHERE key = 'boot-id'";
            Assert.Equal(1, await command.ExecuteNonQueryAsync());
        }

        await sentry.Serve();
        await sentry.Until(
            "board",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() > 1
        );
        Assert.Equal(
            "machine-lost",
            (await sentry.Show("board")).GetProperty("runs")[1].GetProperty("outcome").GetString()
        );
        var relay = await sentry.Show("relay");
        Assert.Equal("stopped", relay.GetProperty("state").GetString());
        Assert.Equal("machine-lost", relay.GetProperty("runs")[0].GetProperty("outcome").GetString());
        Assert.Contains(
            "lost when the machine went down",
            relay.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task An_unwrap_cut_short_by_a_crash_is_finished_by_the_next_server()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "stubborn",
            "--wind-down",
            "TERM 1s",
            "--start",
            "--",
            sentry.Script("stubborn", "#!/bin/sh\ntrap '' TERM\nwhile :; do sleep 0.1; done\n")
        );
        var directory = sentry.Places.RunOf(await sentry.Id("stubborn"));
        var unwrap = sentry.Calm("unwrap", "stubborn", "--yes");
        // What the logbook shows is committed, and with it the wish.
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "stubborn")).Output.Contains("Unwrap requested", StringComparison.Ordinal)
        );

        await sentry.KillServer();
        Assert.Equal(5, (await unwrap).Exit);
        await sentry.Serve();
        await Sentry.Eventually(async () => (await sentry.Ok("list", "--json")).Json.GetArrayLength() == 0);

        Assert.Empty(sentry.Processes("stubborn"));
        Assert.False(Directory.Exists(directory));
    }

    /// <summary>
    /// Waits for the keeper's note of the outcome: the event itself, as a returning server would find it.
    /// </summary>
    private static async Task Gone(string directory)
    {
        using var watcher = new FileSystemWatcher(directory);
        for (var tries = 0; tries < 300 && !File.Exists(Path.Combine(directory, "outcome.1")); tries++)
            await Task.Run(() => watcher.WaitForChanged(WatcherChangeTypes.All, 100));
        Assert.True(File.Exists(Path.Combine(directory, "outcome.1")));
    }

    [Fact]
    public async Task A_keeper_that_hangs_keeps_the_sentry_from_nothing_and_is_taken_up_when_it_answers()
    {
        await using var sentry = await Sentry.Start();
        foreach (var name in new[] { "tide", "board" })
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
        var (tide, board) = (
            (await sentry.Show("tide")).GetProperty("pid").GetInt32(),
            (await sentry.Show("board")).GetProperty("pid").GetInt32()
        );
        var keeper = Sentry.Parent(tide);
        await sentry.KillServer();
        Sentry.Kill(keeper, "STOP");
        await sentry.Serve(); // it serves, and has taken up the other
        Assert.Equal(board, (await sentry.Show("board")).GetProperty("pid").GetInt32());
        Assert.Contains(
            "Its keeper does not answer",
            (await sentry.Ok("logbook", "tide")).Output,
            StringComparison.Ordinal
        );
        await sentry.Ok("restart", "board");
        Sentry.Kill(keeper, "CONT");
        Assert.Equal(tide, (await sentry.Show("tide")).GetProperty("pid").GetInt32());
        await sentry.Ok("stop", "tide");
        Assert.False(Sentry.Lives(tide));
    }

    [Theory]
    [InlineData(true)] // nobody finds the keeper by its place any more, nor by a run, for it has none yet
    [InlineData(false)]
    public async Task An_order_that_waited_in_a_stopped_keeper_is_carried_out_once_by_whoever_follows(bool wiped)
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--pause", "1500ms", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        var pid = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        var (keeper, directory) = (Sentry.Parent(pid), sentry.Places.RunOf(await sentry.Id("tide")));
        Sentry.Kill(pid);
        await sentry.Until("tide", view => view.GetProperty("state").GetString() == "waiting");
        Sentry.Kill(keeper, "STOP");
        await Ordered(directory, 2);
        await Sent(sentry);
        await sentry.KillServer();
        if (wiped)
            Directory.Delete(sentry.Places.RunDirectory, recursive: true);
        await sentry.Serve();
        if (wiped)
            await sentry.Until("tide", view => view.GetProperty("state").GetString() == "running");
        Sentry.Kill(keeper, "CONT");
        await Sentry.Eventually(() => Task.FromResult(!Sentry.Lives(keeper)));
        await RunsOnce(sentry, wiped ? null : 2); // after a wipe, numbers that may have been given are left out
    }

    [Fact]
    public async Task An_order_that_waited_in_a_stopped_keeper_in_reserve_is_carried_out_once_by_whoever_follows()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--", "/bin/sleep", "600");
        var reserve = 0;
        await Sentry.Eventually(() => Task.FromResult((reserve = Reserve(sentry)) != 0));
        Sentry.Kill(reserve, "STOP");
        using var start = sentry.Open("start", "tide");
        await Ordered(sentry.Places.RunOf(await sentry.Id("tide")), 1);
        await Sent(sentry);
        await sentry.KillServer();
        await Sentry.End(start);
        Sentry.Kill(reserve, "CONT");
        await Sentry.Eventually(() => Task.FromResult(!Sentry.Lives(reserve)));
        await sentry.Serve();
        await RunsOnce(sentry, run: 1);
    }

    /// <summary>The order is on record before it is sent; what a service is asked after that comes when it has been.</summary>
    private static Task<Said> Sent(Sentry sentry) => sentry.Ok("adjust", "tide", "--title", "Tide gauge");

    private static Task Ordered(string directory, int run) =>
        Sentry.Eventually(() => Task.FromResult(File.Exists(Path.Combine(directory, $"order.{run}"))));

    /// <summary>The keeper that waits, as a child of the server, for its first order; 0: there is none yet.</summary>
    private static int Reserve(Sentry sentry) =>
        Directory
            .EnumerateDirectories("/proc")
            .Select(path => int.TryParse(Path.GetFileName(path), out var pid) ? pid : 0)
            .FirstOrDefault(pid =>
                pid != 0
                && Sentry.Parent(pid) == sentry.ServerPid
                && Sentry.CommandLine(pid).StartsWith("calm-keeper\0keep", StringComparison.Ordinal)
            );

    private static async Task RunsOnce(Sentry sentry, int? run)
    {
        await sentry.Until(
            "tide",
            view =>
                view.GetProperty("state").GetString() == "running"
                && (run is null || view.GetProperty("run").GetInt64() == run)
        );
        Assert.Equal([(await sentry.Show("tide")).GetProperty("pid").GetInt32()], sentry.Processes("tide"));
        // Where the run directory was wiped, whether the one before was launched nobody can know: it counts as lost.
        if (run is not null)
            Assert.DoesNotContain("keeper", (await sentry.Ok("runs", "tide")).Output, StringComparison.Ordinal);
    }
}
