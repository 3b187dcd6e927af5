using System.Diagnostics;
using System.Globalization;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>New program files: looked at first, put in as a whole, and the old ones again when the program does not stay well.</summary>
[Needs("perl")]
public class SwapTests
{
    /// <summary>Writes down which version of each of its two files it began with; ends as the second one says.</summary>
    private const string Board =
        "#!/bin/sh\ncd \"$(dirname \"$0\")\"\n"
        + "echo \"began $(cat first) $(cat second)\" | tee -a day.book\n"
        + "case $(cat second) in fails) echo cannot open the timetable >&2; exit 3;; falls) sleep 0.4; exit 4;; esac\n"
        + "exec sleep 678\n";

    private static string Home(Sentry sentry) => Path.Combine(sentry.Places.Root, "srv", "board");

    /// <summary>Where its other versions lie: as root in a folder that root alone can write.</summary>
    private static string[] Kept(Sentry sentry)
    {
        var place = Path.Combine(
            sentry.Places.Root,
            "srv",
            Environment.UserName == "root" ? ".calm-versions" : ".board.versions"
        );
        return Directory.Exists(place) ? Directory.GetFileSystemEntries(place) : [];
    }

    /// <summary>A directory of program files.</summary>
    private static string Files(string directory, string first, string? second = null)
    {
        Directory.CreateDirectory(directory);
        File.WriteAllText(Path.Combine(directory, "board.sh"), Board);
        File.SetUnixFileMode(Path.Combine(directory, "board.sh"), (UnixFileMode)0x1ED);
        File.WriteAllText(Path.Combine(directory, "first"), first + "\n");
        File.WriteAllText(Path.Combine(directory, "second"), (second ?? first) + "\n");
        return directory;
    }

    private static string New(Sentry sentry, string first, string? second = null) =>
        Files(Path.Combine(sentry.Places.Root, "srv", "new-" + (second ?? first), "board"), first, second);

    private static string Packed(string directory, string archive)
    {
        using var tar = Process.Start(
            "tar",
            ["czf", archive, "-C", Path.GetDirectoryName(directory)!, Path.GetFileName(directory)]
        );
        tar.WaitForExit();
        return archive;
    }

    private static async Task<Sentry> With(params string[] flags) => await With(await Sentry.Start(), flags);

    private static async Task<Sentry> With(Sentry sentry, params string[] flags)
    {
        Files(Home(sentry), "1");
        await Run("chown", "-R", Sentry.Account, Home(sentry));
        await sentry.Wrap(
            "board",
            [
                "--proof",
                "up-for:200ms",
                "--data",
                "day.book",
                "--pause",
                "5s",
                .. flags,
                "--",
                Path.Combine(Home(sentry), "board.sh"),
            ]
        );
        return sentry;
    }

    private static async Task Run(string program, params string[] arguments)
    {
        using var process = Process.Start(program, arguments);
        await process.WaitForExitAsync();
        Assert.Equal(0, process.ExitCode);
    }

    private static string Book(Sentry sentry) => File.ReadAllText(Path.Combine(Home(sentry), "day.book"));

    [Fact]
    public async Task What_a_drill_has_in_hand_gets_no_new_files_before_its_end_and_the_other_way_round()
    {
        await using var sentry = await With("--wind-down", "signal:CONT,wait=3s");
        await sentry.Ok("start", "board");
        var drill = sentry.Calm("drill", "board", "--yes");
        await sentry.Until("board", view => view.GetProperty("state").GetString() == "stopping");
        var refused = await sentry.Calm("swap", "board", "--from", New(sentry, "2"));
        Assert.Equal(1, refused.Exit);
        Assert.Matches("A drill, which \\S+ asked for [0-9]+ s ago, has board in hand: 0 of 1 are down", refused.Error);
        Assert.Equal(1, (await sentry.Calm("restart", "board")).Exit);

        // Whoever waits gets it once it is back, and what does not stay well is taken out again.
        var swap = await sentry.Calm("swap", "board", "--from", New(sentry, "2", "falls"), "--wait");
        await drill;
        Assert.Equal(1, swap.Exit);
        Assert.Contains("keeps its files of before", swap.All, StringComparison.Ordinal);
        Assert.Equal("running", (await sentry.Show("board")).GetProperty("state").GetString());

        var watched = sentry.Calm("swap", "board", "--from", New(sentry, "3"), "--watch-for", "4s");
        await sentry.Until("board", view => view.GetProperty("run").GetInt64() > 4);
        var second = await sentry.Calm("drill", "board", "--yes");
        Assert.Equal(1, second.Exit);
        Assert.Matches(
            "A swap, which \\S+ asked for [0-9]+ s ago, has board in hand: it is .* with version 3",
            second.Error
        );
        Assert.Equal(0, (await watched).Exit);
    }

    [Fact]
    public async Task New_files_are_put_in_the_data_stays_and_the_old_ones_can_come_back()
    {
        await using var sentry = await With();
        await sentry.Ok("start", "board");
        var archive = Packed(New(sentry, "2"), Path.Combine(sentry.Places.Root, "board-2.tar.gz"));
        var dry = (await sentry.Ok("swap", "board", "--from", archive, "--dry")).Output;
        Assert.Contains("changed    2: first, second", dry, StringComparison.Ordinal);
        Assert.Contains("data       day.book: stays as it is", dry, StringComparison.Ordinal);
        Assert.Contains("Run 1 is stopped", dry, StringComparison.Ordinal);
        Assert.Contains("Nothing was done.", dry, StringComparison.Ordinal);
        Assert.Equal(1, (await sentry.Show("board")).GetProperty("run").GetInt32());
        Assert.Empty(Kept(sentry));

        await File.WriteAllTextAsync(Path.Combine(Home(sentry), "notes.txt"), "old");
        // What its program has written meanwhile is not lost in silence.
        var left = await sentry.Calm("swap", "board", "--from", archive);
        Assert.Equal(1, left.Exit);
        Assert.Contains("written notes.txt since it began", left.Error, StringComparison.Ordinal);

        var said = await sentry.Ok(
            "swap",
            "board",
            "--from",
            archive,
            "--watch-for",
            "300ms",
            "--accept",
            "data-left-behind"
        );
        Assert.Contains("board has version 2 of its files. Running since", said.Output, StringComparison.Ordinal);
        Assert.Contains("It stayed well for 300 ms.", said.Output, StringComparison.Ordinal);
        Assert.Equal("began 1 1\nbegan 2 2\n", Book(sentry));
        Assert.False(File.Exists(Path.Combine(Home(sentry), "notes.txt")));
        var owner = await Output("stat", "-c", "%U %a", Home(sentry), Path.Combine(Home(sentry), "first"));
        Assert.Equal($"{Sentry.Account} 755\n{Sentry.Account} 644\n", owner);

        Assert.Equal([2, null], await Versions(sentry));
        await sentry.Ok("restart", "board");
        Assert.Contains("calm swap board --back 1", said.Output, StringComparison.Ordinal);
        var back = await sentry.Ok("swap", "board", "--back", "--watch-for", "0s");
        Assert.Contains("board has version 1 of its files.", back.Output, StringComparison.Ordinal);
        Assert.Equal("began 1 1\nbegan 2 2\nbegan 2 2\nbegan 1 1\n", Book(sentry));
        Assert.Equal([1, 2, 2, null], await Versions(sentry));
        var versions = (await sentry.Ok("swap", "board", "--json")).Json.GetProperty("versions");
        Assert.Equal([2, 1], versions.EnumerateArray().Select(one => one.GetProperty("number").GetInt32()));
        Assert.True(versions[1].GetProperty("present").GetBoolean());
        Assert.True(versions[0].GetProperty("kept").GetBoolean());
        var log = (await sentry.Ok("logbook", "board", "--last", "50")).Output;
        Assert.Contains($"Version 2 of its files, from {archive}, is put in", log, StringComparison.Ordinal);
        Assert.Contains("It has version 2 of its files, and stayed well", log, StringComparison.Ordinal);
    }

    private static async Task<string> Output(string program, params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true })!;
        var text = await process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync();
        return text;
    }

    /// <summary>Of each run, the latest first.</summary>
    private static async Task<List<int?>> Versions(Sentry sentry) =>
        [
            .. (await sentry.Ok("runs", "board", "--json"))
                .Json.EnumerateArray()
                .Select(run =>
                    run.TryGetProperty("version", out var version)
                    && version.ValueKind == System.Text.Json.JsonValueKind.Number
                        ? version.GetInt32()
                        : (int?)null
                ),
        ];

    [Theory]
    [InlineData("fails", "exited with code 3", "cannot open the timetable")]
    [InlineData("falls", "exited with code 4", "began 2 falls")]
    public async Task Files_that_do_not_do_give_way_to_those_of_before(string how, string outcome, string printed)
    {
        await using var sentry = await With();
        await sentry.Ok("start", "board");
        var said = await sentry.Calm("swap", "board", "--from", New(sentry, "2", how), "--watch-for", "20s");
        Assert.Equal(1, said.Exit);
        Assert.Contains(
            $"board keeps its files of before: with version 2 run 2 {outcome}",
            said.Error,
            StringComparison.Ordinal
        );
        Assert.Contains(printed, said.Error, StringComparison.Ordinal);
        Assert.Contains("Version 1 is in place again. Running since", said.Error, StringComparison.Ordinal);
        Assert.Equal($"began 1 1\nbegan 2 {how}\nbegan 1 1\n", Book(sentry));
        Assert.Equal([1, 2, null], await Versions(sentry));
        Assert.Empty(Kept(sentry));
        Assert.Contains("did not stay: run 2", (await sentry.Ok("swap", "board")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "No earlier version",
            (await sentry.Calm("swap", "board", "--back")).Error,
            StringComparison.Ordinal
        );
    }

    /// <summary>Neither on hold for it, nor told as its failure, nor counted as one.</summary>
    [Fact]
    public async Task New_files_that_do_not_do_are_no_failures_of_the_service()
    {
        await using var sentry = await With("--hold-ends", "2", "--hold-within", "1h");
        await sentry.Ok("start", "board");
        for (var times = 2; times < 6; times++)
        {
            var how = times % 2 == 0 ? "fails" : "falls";
            var said = await sentry.Calm(
                "swap",
                "board",
                "--from",
                New(sentry, Text(times), how),
                "--watch-for",
                "20s"
            );
            Assert.Equal(1, said.Exit);
            Assert.Contains("Version 1 is in place again. Running since", said.Error, StringComparison.Ordinal);
        }

        var log = (await sentry.Ok("logbook", "board", "--last", "200")).Output;
        Assert.Contains(
            "exited with code 3 before it was ready: a failed start with new files: those before are put back.",
            log,
            StringComparison.Ordinal
        );
        Assert.Contains("exited with code 4 with new files: those before are put back.", log, StringComparison.Ordinal);
        Assert.DoesNotContain("on hold", log, StringComparison.Ordinal);
        var figures = (await sentry.Call(HttpMethod.Get, "services/board/availability")).EnumerateArray().First();
        Assert.Equal(0, figures.GetProperty("falls").GetInt32());
        var alerts = (await sentry.Call(HttpMethod.Get, "alerts")).EnumerateArray().ToList();
        Assert.All(alerts, alert => Assert.Contains("swap", alert.ToString(), StringComparison.Ordinal));
        // A failure of its own counts from the first on.
        Sentry.Kill((await sentry.Show("board")).GetProperty("pid").GetInt32());
        await sentry.Until(
            "board",
            view =>
                view.GetProperty("run").ValueKind == System.Text.Json.JsonValueKind.Number
                && view.GetProperty("run").GetInt64() == 10
                && view.GetProperty("state").GetString() == "running"
        );
    }

    [Fact]
    public async Task With_both_of_them_bad_it_says_so_and_the_files_are_of_one_version()
    {
        await using var sentry = await With("--recover", "never");
        await sentry.Ok("start", "board");
        await File.WriteAllTextAsync(Path.Combine(Home(sentry), "second"), "fails\n"); // it could not start again as it is
        var said = await sentry.Calm("swap", "board", "--from", New(sentry, "2", "fails"));
        Assert.Equal(1, said.Exit);
        Assert.Contains("but it does not run: run 3 exited with code 3", said.Error, StringComparison.Ordinal);
        Assert.Equal("began 1 1\nbegan 2 fails\nbegan 1 fails\n", Book(sentry));
    }

    [Fact]
    public async Task What_would_not_run_is_refused_before_anything_is_interrupted()
    {
        await using var sentry = await With();
        await sentry.Ok("start", "board");
        var broken = New(sentry, "2");
        await File.WriteAllTextAsync(Path.Combine(broken, "board.sh"), "#!/usr/bin/no-such-shell\n");
        var said = await sentry.Calm("swap", "board", "--from", broken);
        Assert.Equal(1, said.Exit);
        Assert.Contains("no-such-shell", said.Error, StringComparison.Ordinal);
        Assert.Contains(Path.Combine(Home(sentry), "board.sh"), said.Error, StringComparison.Ordinal);
        File.Delete(Path.Combine(broken, "board.sh"));
        Assert.Equal(1, (await sentry.Calm("swap", "board", "--from", broken)).Exit);
        if (Environment.UserName == "root")
        {
            var home = Files(Path.Combine(sentry.Places.Root, "srv", "tides"), "1"); // root's
            await File.WriteAllTextAsync(Path.Combine(home, "tides.pl"), "sleep 600;\n");
            await sentry.Wrap("tides", "--", "/usr/bin/perl", Path.Combine(home, "tides.pl"));
            await sentry.Ok("adjust", "tides", "--files-directory", home);
            // It would be there, and its program could not read it.
            var closed = New(sentry, "4");
            await File.WriteAllTextAsync(Path.Combine(closed, "tides.pl"), "sleep 601;\n");
            await File.WriteAllTextAsync(Path.Combine(closed, "berths.json"), "{}");
            File.SetUnixFileMode(Path.Combine(closed, "berths.json"), (UnixFileMode)0b110_000_000);
            Assert.Contains(
                $"{Sentry.Account} may not read 1 of the new files: berths.json.",
                (await sentry.Ok("swap", "tides", "--from", closed, "--dry")).All,
                StringComparison.Ordinal
            );
            // As its own interpreter says, and nothing of it was run.
            await File.WriteAllTextAsync(Path.Combine(closed, "tides.pl"), "my $tide = ;\n");
            var mistaken = await sentry.Calm("swap", "tides", "--from", closed);
            Assert.Equal(1, mistaken.Exit);
            Assert.Contains("syntax error at", mistaken.Error, StringComparison.Ordinal);
        }

        var outside = Path.Combine(sentry.Places.Root, "outside.tar");
        await Run("tar", "cf", outside, "-P", "--transform", "s,^,../../,", "-C", New(sentry, "3"), "first");
        var archive = await sentry.Calm("swap", "board", "--from", outside);
        Assert.Equal(1, archive.Exit);
        Assert.Contains("it would lie outside", archive.Error, StringComparison.Ordinal);
        await File.WriteAllTextAsync(outside, "no archive at all");
        Assert.Contains(
            "it is no tar, tar.gz or zip archive",
            (await sentry.Calm("swap", "board", "--from", outside)).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "not there",
            (await sentry.Calm("swap", "board", "--from", "/nowhere")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "is, or contains, or lies in",
            (await sentry.Calm("swap", "board", "--from", Home(sentry))).Error,
            StringComparison.Ordinal
        );
        Assert.Equal(2, (await sentry.Calm("swap", "board", "--from", outside, "--back")).Exit);

        Assert.Equal(1, (await sentry.Show("board")).GetProperty("run").GetInt32());
        Assert.Equal("began 1 1\n", Book(sentry));
        Assert.Empty(Kept(sentry));

        await sentry.Wrap("sleeper", "--", "/bin/sleep", "679");
        var host = await sentry.Calm("swap", "sleeper", "--from", New(sentry, "2"));
        Assert.Contains("--files-directory", host.Error, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_swap_goes_on_whenever_the_sentry_is_killed_and_nothing_is_launched_from_a_mixture()
    {
        await using var sentry = await With();
        await sentry.Ok("start", "board");
        var random = new Random(20261127);
        for (var round = 2; round < 12; round++)
        {
            var good = round % 3 != 0;
            var swap = sentry.Calm(
                "swap",
                "board",
                "--from",
                New(sentry, Text(round), good ? null : "fails"),
                "--watch-for",
                "100ms"
            );
            // Somewhere between its first step and its end.
            await Sentry.Eventually(async () =>
                swap.IsCompleted || await Doing(sentry) is not (null or "new files are being looked at")
            );
            await Task.WhenAny(swap, Task.Delay(random.Next(400)));
            await sentry.KillServer();
            await sentry.Serve();
            await swap;
            await Sentry.Eventually(async () => await Doing(sentry) is null);
            await sentry.Until("board", view => view.GetProperty("state").GetString() == "running");
            var (first, second) = (Content(sentry, "first"), Content(sentry, "second"));
            Assert.True(first == second, $"its files are of one version: {first}, {second} in round {round}");
        }

        // Each line was written by a run: of one version, or of one that fails as a whole.
        var book = Book(sentry).TrimEnd().Split('\n');
        Assert.All(
            book,
            line =>
                Assert.True(
                    line.Split(' ') is [_, var first, var second] && (first == second || second == "fails"),
                    line
                )
        );
        Assert.True(book.Distinct().Count() > 5, string.Join('\n', book));
        var runs = (await sentry.Ok("runs", "board", "--json", "--last", "500")).Json.GetArrayLength();
        Assert.True(runs >= book.Length);
    }

    [Theory]
    [InlineData("2", "it is stopped for its new files", "2")]
    [InlineData("2", "it is started with version 2", "2")]
    [InlineData("2", "watched for", "2")]
    [InlineData("slow", "is not well", "1")]
    [InlineData("slow", "it is started with version 1 again", "1")]
    public async Task Killed_at_each_of_its_steps_with_the_guard_it_ends_whole(string how, string step, string ends)
    {
        // Each step takes long enough to be met: what is asked first it does not hear, and it is proven and watched for a while.
        await using var sentry = await Sentry.StartGuarded();
        await With(
            sentry,
            "--wind-down",
            "WINCH 500ms",
            "--watch",
            $"command:/usr/bin/test ! -e {Path.Combine(Home(sentry), "slow").Quoted()},beat=100ms,patience=3,follows=note"
        );
        await sentry.Ok("start", "board");
        var files = New(sentry, "2", how);
        if (how == "slow")
            await File.WriteAllTextAsync(Path.Combine(files, "slow"), "");
        var swap = sentry.Calm("swap", "board", "--from", files, "--watch-for", "2s");
        await Sentry.Eventually(async () => (await Doing(sentry))?.Contains(step, StringComparison.Ordinal) == true);
        var (guard, server) = (await sentry.Guard(), await sentry.Server());
        Sentry.Kill(guard);
        Sentry.Kill(server);
        await Sentry.Eventually(async () => await sentry.Server() is var now && now > 0 && now != server);
        await swap;
        await Sentry.Eventually(async () => await Doing(sentry) is null);
        await sentry.Until("board", view => view.GetProperty("state").GetString() == "running");
        Assert.Equal(ends, Content(sentry, "first"));
        Assert.Equal(how == "2" ? "2" : "1", Content(sentry, "second"));
        Assert.All(
            Book(sentry).TrimEnd().Split('\n'),
            line => Assert.True(line is "began 1 1" or "began 2 2" or "began 2 slow", line)
        );
    }

    [Theory]
    [InlineData(false, "still has version 2 of its files")]
    [InlineData(true, "is not known to be of one version")]
    public async Task Files_that_somebody_took_away_are_not_said_to_be_back(bool present, string words)
    {
        await using var sentry = await With();
        await sentry.Ok("start", "board");
        var swap = sentry.Calm("swap", "board", "--from", New(sentry, "2"), "--watch-for", "1min");
        await Sentry.Eventually(async () =>
            (await Doing(sentry))?.Contains("watched for", StringComparison.Ordinal) == true
        );
        Directory.Move(Assert.Single(Kept(sentry)), Path.Combine(sentry.Places.Root, "srv", "taken"));
        if (present)
        {
            Directory.Move(Home(sentry), Path.Combine(sentry.Places.Root, "srv", "present"));
            Directory.CreateDirectory(Home(sentry));
        }

        Sentry.Kill((await sentry.Show("board")).GetProperty("pid").GetInt32());
        var said = await swap;
        Assert.Equal(1, said.Exit);
        Assert.Contains(words, said.Error, StringComparison.Ordinal);
        Assert.Contains("With version 2 run 2 was killed by signal KILL", said.Error, StringComparison.Ordinal);
        Assert.DoesNotContain("in place again", said.Error, StringComparison.Ordinal);
        var entry = (await sentry.Ok("logbook", "board", "--last", "20")).Output;
        Assert.Contains(
            present ? "its files are not known to be of one version" : "has version 2 of its files, but does not run",
            entry,
            StringComparison.Ordinal
        );
        Assert.True(File.Exists(Path.Combine(sentry.Places.Root, "srv", "taken", "first")));
    }

    private static async Task<string?> Doing(Sentry sentry) =>
        (await sentry.Call(HttpMethod.Get, "services/board/versions")).TryGetProperty("under-way", out var doing)
            ? doing.GetString()
            : null;

    private static string Content(Sentry sentry, string name) =>
        File.ReadAllText(Path.Combine(Home(sentry), name)).TrimEnd();

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    [Fact]
    public async Task What_is_stopped_stays_so_only_so_many_are_kept_and_one_is_under_way_at_a_time()
    {
        await using var sentry = await With("--versions", "1");
        foreach (var version in (string[])["2", "3", "4"])
            await sentry.Ok("swap", "board", "--from", New(sentry, version));
        Assert.Equal("stopped", (await sentry.Show("board")).GetProperty("state").GetString());
        Assert.Equal("4", Content(sentry, "first"));
        Assert.EndsWith(".S1.3", Assert.Single(Kept(sentry)), StringComparison.Ordinal);
        Assert.Contains("let go", (await sentry.Ok("swap", "board")).Output, StringComparison.Ordinal);

        await sentry.Ok("start", "board");
        var first = sentry.Calm("swap", "board", "--from", New(sentry, "5"), "--watch-for", "30s");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("swap", "board")).Output.Contains("watched for 30 s", StringComparison.Ordinal)
        );
        var second = await sentry.Calm("swap", "board", "--back");
        Assert.Contains("New files of board are under way", second.Error, StringComparison.Ordinal);
        await sentry.Wrap("twin", "--files-directory", Home(sentry), "--", "/bin/sleep", "677");
        var twin = await sentry.Calm("swap", "twin", "--from", New(sentry, "6"));
        Assert.Contains("New files of board are under way in", twin.Error, StringComparison.Ordinal);
        // A stop in between is a person's word: the new files stay, and it is down.
        await sentry.Ok("stop", "board");
        var said = await first;
        Assert.Contains("does not run: it was stopped meanwhile", said.Error, StringComparison.Ordinal);
        Assert.Equal("5", Content(sentry, "first"));
    }

    [Fact]
    public async Task What_somebody_stops_while_it_is_stopped_for_its_files_stays_down()
    {
        await using var sentry = await With("--wind-down", "WINCH 2s");
        await sentry.Ok("start", "board");
        var swap = sentry.Calm("swap", "board", "--from", New(sentry, "2"), "--watch-for", "0s");
        await sentry.Until("board", view => view.GetProperty("state").GetString() == "stopping");
        await sentry.Ok("stop", "board");
        Assert.Equal(0, (await swap).Exit);
        Assert.Equal("2", Content(sentry, "first"));
        Assert.Equal("stopped", (await sentry.Show("board")).GetProperty("state").GetString());
        Assert.Equal("began 1 1\n", Book(sentry));
        Assert.Contains("root, for new files", (await sentry.Ok("logbook", "board")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Those_that_need_it_are_asked_about_and_go_with_it()
    {
        await using var sentry = await With();
        await sentry.Wrap("lamps", "--need", "service:board", "--proof", "up-for:10ms", "--", "/bin/sleep", "679");
        await sentry.Ok("start", "lamps");
        var asked = await sentry.Calm("swap", "board", "--from", New(sentry, "2"));
        Assert.Equal(1, asked.Exit);
        Assert.Contains("--with-dependents", asked.Error, StringComparison.Ordinal);
        Assert.Equal("began 1 1\n", Book(sentry));
        await sentry.Ok("swap", "board", "--from", New(sentry, "2"), "--with-dependents", "--watch-for", "0s");
        await sentry.Until(
            "lamps",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == 2
        );
        Assert.Equal("began 1 1\nbegan 2 2\n", Book(sentry));
    }

    [Fact]
    public async Task Of_the_files_of_before_those_that_are_not_replaced_can_stay()
    {
        await using var sentry = await With();
        await sentry.Ok("start", "board");
        var only = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv", "only")).FullName;
        await File.WriteAllTextAsync(Path.Combine(only, "second"), "1\n");
        await File.WriteAllTextAsync(Path.Combine(only, "third"), "3\n");
        var dry = await sentry.Ok("swap", "board", "--from", only, "--over", "--dry");
        Assert.DoesNotContain("gone", dry.Output, StringComparison.Ordinal);
        await sentry.Ok("swap", "board", "--from", only, "--over", "--watch-for", "0s");
        Assert.Equal("began 1 1\nbegan 1 1\n", Book(sentry));
        Assert.True(File.Exists(Path.Combine(Home(sentry), "third")));
    }

    /// <summary>One file that its program is, or is given, takes that place alone, whatever it holds.</summary>
    [Fact]
    public async Task One_file_takes_the_place_of_the_one_of_its_name()
    {
        await using var sentry = await With();
        var fresh = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "fresh")).FullName;
        var script = Path.Combine(fresh, "board.sh");
        await File.WriteAllTextAsync(script, Board.Replace("began", "begins", StringComparison.Ordinal));
        File.SetUnixFileMode(script, (UnixFileMode)0x1A4); // as it was copied there: nobody may execute it
        await sentry.Ok("start", "board");
        var swapped = await sentry.Ok("swap", "board", "--from", script, "--watch-for", "0s");
        Assert.Contains("board.sh", swapped.All, StringComparison.Ordinal);
        Assert.Equal(
            ["board.sh", "day.book", "first", "second"],
            Directory.GetFiles(Home(sentry)).Select(Path.GetFileName).Order(StringComparer.Ordinal)
        );
        Assert.Equal("began 1 1\nbegins 1 1\n", await File.ReadAllTextAsync(Path.Combine(Home(sentry), "day.book")));

        // An archive by what it holds, and yet a file that the program is given.
        var packed = Packed(New(sentry, "2"), Path.Combine(fresh, "timetable.tar.gz"));
        File.Copy(packed, Path.Combine(Home(sentry), "timetable.tar.gz"));
        await sentry.Ok("adjust", "board", "--", Path.Combine(Home(sentry), "board.sh"), "--table=timetable.tar.gz");
        await sentry.Ok("restart", "board");
        await File.AppendAllTextAsync(packed, "more");
        await sentry.Ok("swap", "board", "--from", packed, "--watch-for", "0s");
        Assert.Equal(
            await File.ReadAllBytesAsync(packed),
            await File.ReadAllBytesAsync(Path.Combine(Home(sentry), "timetable.tar.gz"))
        );
        Assert.Equal("1\n", await File.ReadAllTextAsync(Path.Combine(Home(sentry), "first")));

        // Two of its name, and it is not guessed which.
        Directory.CreateDirectory(Path.Combine(Home(sentry), "old"));
        File.Copy(packed, Path.Combine(Home(sentry), "old", "timetable.tar.gz"));
        await sentry.Ok(
            "adjust",
            "board",
            "--",
            Path.Combine(Home(sentry), "board.sh"),
            "--table=timetable.tar.gz",
            "--before=old/timetable.tar.gz"
        );
        var refused = await sentry.Calm("swap", "board", "--from", packed);
        Assert.Contains("may be meant for", refused.Error, StringComparison.Ordinal);
        // Of another name it is an archive as before.
        var other = Path.Combine(fresh, "board-3.tar.gz");
        Packed(New(sentry, "3"), other);
        await sentry.Ok("swap", "board", "--from", other, "--over", "--watch-for", "0s");
        Assert.Equal("3\n", await File.ReadAllTextAsync(Path.Combine(Home(sentry), "first")));
    }

    [Fact]
    public async Task A_run_of_a_job_is_not_interrupted()
    {
        await using var sentry = await Sentry.Start();
        Files(Home(sentry), "1");
        await Run("chown", "-R", Sentry.Account, Home(sentry));
        await sentry.Wrap(
            "board",
            "--kind",
            "periodic",
            "--rhythm",
            "run:every 1 h",
            "--data",
            "day.book",
            "--",
            Path.Combine(Home(sentry), "board.sh")
        );
        using var start = sentry.Open("start", "board");
        await sentry.Until(
            "board",
            view =>
                view.GetProperty("state").GetString() == "running"
                && Path.Exists(Path.Combine(Home(sentry), "day.book"))
        );
        var swap = sentry.Calm("swap", "board", "--from", New(sentry, "2"));
        await Sentry.Eventually(async () =>
            (await sentry.Ok("swap", "board")).Output.Contains(
                "waits for the run under way to end",
                StringComparison.Ordinal
            )
        );
        Assert.Equal("1", Content(sentry, "first"));
        await sentry.Ok("stop", "board", "--this-run");
        Assert.Equal(0, (await swap).Exit);
        Assert.Equal("2", Content(sentry, "first"));
        Assert.Equal("resting", (await sentry.Show("board")).GetProperty("state").GetString());
        await Sentry.End(start);
    }
}
