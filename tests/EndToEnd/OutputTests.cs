using System.Diagnostics;
using CalmSentry.Contract.Api;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>What a program prints is kept, whole and in order.</summary>
[Needs("perl")]
public class OutputTests
{
    [Fact]
    public async Task Output_printed_while_no_server_watches_is_complete_and_in_order()
    {
        await using var sentry = await Sentry.Start();
        var gate = Path.Combine(sentry.Places.Root, "gate");
        var script = sentry.Script(
            "counter",
            $"#!/bin/sh\nseq 1 1000\nwhile [ ! -e {gate.Quoted()} ]; do sleep 0.02; done\nseq 1001 60000\necho over "
                + $">&2\nexec sleep 600\n"
        );
        await sentry.Wrap("counter", "--start", "--", script);
        await sentry.KillServer();
        await File.WriteAllTextAsync(gate, "");
        var output = sentry.Places.OutputOf("counter");
        await Sentry.Eventually(async () =>
            (await File.ReadAllTextAsync(output)).EndsWith("over\n", StringComparison.Ordinal)
        );
        await sentry.Serve();
        var said = await sentry.Ok("output", "counter", "--last", "100000");
        Assert.Equal(string.Concat(Enumerable.Range(1, 60000).Select(i => i + "\n")) + "over\n", said.Output);
        Assert.Equal("59999\n60000\nover\n", (await sentry.Ok("output", "counter", "--last", "3")).Output);
    }

    [Fact]
    public async Task All_of_it_is_kept_elsewhere_and_comes_along_when_that_is_changed()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("gate", "#!/bin/sh\necho run $CALM_RUN_NUMBER began\nexec sleep 600\n");
        await sentry.Wrap("gate", "--start", "--", script);
        var data = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "data", "logs")).FullName;
        var to = Path.Combine(data, "gate");
        var adjusted = await sentry.Ok("adjust", "gate", "--output-directory", to);
        Assert.Contains("keeps running unchanged", adjusted.Output, StringComparison.Ordinal);
        await sentry.Ok("restart", "gate");
        Assert.Equal(
            2,
            (await sentry.Ok("output", "gate")).Output.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length
        );
        Assert.Equal(2, (await File.ReadAllLinesAsync(Path.Combine(to, "output.log"))).Length);
        Assert.Contains(to, (await sentry.Ok("show", "gate")).Output, StringComparison.Ordinal);
        // Each run is still found by its place in all there ever was.
        Assert.Single(
            (await sentry.Ok("output", "gate", "--run", "1")).Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
        );

        // Another service does not get it, nor a directory that others can write.
        var taken = await sentry.Calm(
            "wrap",
            "other",
            "--account",
            Sentry.Account,
            "--output-directory",
            to,
            "--",
            script
        );
        Assert.Equal(1, taken.Exit);
        Assert.Contains("the output of gate goes there", taken.Told, StringComparison.Ordinal);
        File.SetUnixFileMode(data, File.GetUnixFileMode(data) | UnixFileMode.OtherWrite);
        var open = await sentry.Calm("restart", "gate");
        Assert.NotEqual(0, open.Exit);
        Assert.Contains("others than root can write", open.Told, StringComparison.Ordinal);
        File.SetUnixFileMode(data, File.GetUnixFileMode(data) & ~UnixFileMode.OtherWrite);

        await sentry.Ok("adjust", "gate", "--unset", "output.directory");
        await sentry.Ok("restart", "gate");
        Assert.False(Directory.Exists(to));
        Assert.True((await File.ReadAllLinesAsync(sentry.Places.OutputOf("gate"))).Length >= 3);
    }

    [Fact]
    public async Task Following_shows_each_line_as_it_comes()
    {
        await using var sentry = await Sentry.Start();
        var fifo = Path.Combine(sentry.Places.Root, "words");
        System.Diagnostics.Process.Start("mkfifo", ["-m", "666", fifo]).WaitForExit();
        await sentry.Wrap(
            "teller",
            "--start",
            "--",
            sentry.Script(
                "teller",
                $"#!/bin/sh\necho ready\nexec 3<>{fifo.Quoted()}\nwhile read -r word <&3; do echo \"heard $word\"; done\n"
            )
        );
        using var client = sentry.Http();
        using var reader = new StreamReader(
            await client.GetStreamAsync("http://sentry/api/services/teller/output?last=1&follow=true")
        );
        Assert.Equal("ready", await Next());
        await File.WriteAllTextAsync(fifo, "tide\n");
        Assert.Equal("heard tide", await Next());
        await File.WriteAllTextAsync(fifo, "ebb\n");
        Assert.Equal("heard ebb", await Next());

        async Task<string?> Next() => await reader.ReadLineAsync().InTime();
    }

    [Fact]
    public async Task A_full_disk_refuses_a_start_and_makes_a_running_program_wait_without_losing_a_byte()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        var logs = sentry.Places.OutputDirectoryOf("talker");
        Directory.CreateDirectory(logs);
        System
            .Diagnostics.Process.Start("mount", ["-t", "tmpfs", "-o", "size=1m,mode=755", "small", logs])
            .WaitForExit();
        try
        {
            await sentry.Wrap(
                "talker",
                "--recover",
                "never",
                "--",
                sentry.Script("talker", "#!/bin/sh\nseq 1 200000\nexec sleep 600\n")
            );
            await sentry.Ok("start", "talker");
            var stuck = await sentry.Until("talker", view => view.GetProperty("health").GetString() == "poor");
            Assert.Contains("ENOSPC", stuck.GetProperty("why").GetString(), StringComparison.Ordinal);

            // Room is made, as an administrator would: everything that waited is written after what was kept.
            System.Diagnostics.Process.Start("mount", ["-o", "remount,size=8m", logs]).WaitForExit();
            await sentry.Until("talker", view => view.GetProperty("health").GetString() == "good");
            var output = sentry.Places.OutputOf("talker");
            await Sentry.Eventually(async () =>
                (await File.ReadAllTextAsync(output)).EndsWith("200000\n", StringComparison.Ordinal)
            );
            Assert.Equal(
                string.Concat(Enumerable.Range(1, 200000).Select(i => i + "\n")),
                await File.ReadAllTextAsync(output)
            );
            await sentry.Ok("stop", "talker");

            System
                .Diagnostics.Process.Start("sh", ["-c", $"cat /dev/zero > {logs.Quoted()}/fill 2>/dev/null"])
                .WaitForExit();
            var refused = await sentry.Calm("start", "talker");
            Assert.Equal(1, refused.Exit);
            Assert.Contains($"there is no room left for its output in {logs}", refused.Error, StringComparison.Ordinal);
            Assert.Equal("stopped", (await sentry.Show("talker")).GetProperty("state").GetString());
            Assert.Empty(sentry.Processes("talker"));
        }
        finally
        {
            await sentry.Calm("unwrap", "talker", "--yes");
            System.Diagnostics.Process.Start("umount", ["-l", logs]).WaitForExit();
        }
    }

    [Fact]
    public async Task On_a_full_disk_a_program_goes_on_if_it_is_set_to_and_what_is_lost_is_said_in_its_place()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        var logs = sentry.Places.OutputDirectoryOf("talker");
        Directory.CreateDirectory(logs);
        System
            .Diagnostics.Process.Start("mount", ["-t", "tmpfs", "-o", "size=1m,mode=755", "small", logs])
            .WaitForExit();
        try
        {
            var fifo = Fifo(sentry);
            await sentry.Wrap(
                "talker",
                "--when-full",
                "go-on",
                "--proof",
                "up-for:0s",
                "--",
                sentry.Script(
                    "talker",
                    $"#!/bin/sh\nseq 1 200000\nread -r word <{fifo.Quoted()}\necho $word\nexec sleep 600\n"
                )
            );
            await sentry.Ok("start", "talker");
            await Sentry.Eventually(async () =>
                (await sentry.Ok("logbook", "talker", "--kind", "output-dropped")).Output.Contains(
                    "The program goes on",
                    StringComparison.Ordinal
                )
            );
            // It is past its counting, though nothing of that could be kept: it reads.
            await File.WriteAllTextAsync(fifo, "after\n").InTime();
            System.Diagnostics.Process.Start("mount", ["-o", "remount,size=8m", logs]).WaitForExit();
            await Sentry.Eventually(async () =>
                (await sentry.Calm("output", "talker", "--find", "bytes lost")).Output.Contains(
                    "the disk was full",
                    StringComparison.Ordinal
                )
            );
            var kept = await File.ReadAllTextAsync(sentry.Places.OutputOf("talker"));
            var at = kept.IndexOf("[calm: ", StringComparison.Ordinal);
            var lost = long.Parse(kept[at..].Split(' ')[1], System.Globalization.CultureInfo.InvariantCulture);
            var end = kept.IndexOf("full]\n", StringComparison.Ordinal) + "full]\n".Length;
            var all = string.Concat(Enumerable.Range(1, 200000).Select(i => i + "\n")) + "after\n";
            Assert.Equal(all.Length, at + lost + (kept.Length - end));
            Assert.Equal(all[..at], kept[..at]);
            Assert.EndsWith(kept[end..], all, StringComparison.Ordinal);
        }
        finally
        {
            await sentry.Calm("unwrap", "talker", "--yes");
            System.Diagnostics.Process.Start("umount", ["-l", logs]).WaitForExit();
        }
    }

    /// <summary>Both streams at once, parts of lines, bytes that are no text, and a line without an end.</summary>
    private const string Racer = """
        use IO::Handle; STDOUT->autoflush(1); STDERR->autoflush(1); binmode STDOUT; binmode STDERR;
        my ($out, $err) = ("", "");
        for my $i (1 .. 4000) {
          my $a = "out $i " . ("x" x ($i % 300)); my $b = "err $i \x00\xff\xfe";
          print STDOUT $a; print STDERR "$b\n" if $i % 3 == 0; print STDOUT "\n";
        }
        print STDOUT "y" x 10485760, "\n"; print STDERR "and no end";
        open my $done, ">", "$ENV{CALM_STATE}/done"; close $done;
        sleep 600;
        """;

    [Fact]
    public async Task Two_streams_are_told_apart_and_kept_to_the_byte_while_turned_over_and_servers_are_killed()
    {
        await using var sentry = await Sentry.Start();
        var racer = sentry.Script("racer.pl", Racer);
        await sentry.Wrap(
            "racer",
            "--turn-at",
            "1MiB",
            "--keep-most",
            "100MiB",
            "--proof",
            "up-for:0s",
            "--",
            "/usr/bin/perl",
            racer
        );
        await sentry.Ok("start", "racer");
        var done = Path.Combine(sentry.Places.StateOf("racer"), "done");
        for (var kills = 0; kills < 3 && !File.Exists(done); kills++)
        {
            await sentry.KillServer();
            await sentry.Serve();
        }

        await Sentry.Eventually(() => Task.FromResult(File.Exists(done)));
        var output = new System.Text.StringBuilder();
        var errors = new List<string>();
        for (var i = 1; i <= 4000; i++)
        {
            output.Append("out ").Append(i).Append(' ').Append('x', i % 300).Append('\n');
            if (i % 3 == 0)
                errors.Add($"err {i} \0\uFFFD\uFFFD");
        }

        errors.Add("and no end");
        // What was turned over is packed meanwhile; whoever reads sees one and the same.
        await Sentry.Eventually(() =>
            Task.FromResult(
                Directory.GetFiles(sentry.Places.OutputDirectoryOf("racer"), "output.*.log.gz").Length > 0
                    && Directory.GetFiles(sentry.Places.OutputDirectoryOf("racer"), "output.*.log").Length == 0
            )
        );
        var lines = await Lines(sentry, "racer", "last=1000000");
        Assert.Equal(
            output.ToString(),
            string.Concat(lines.Where(line => line.Stream == "output").SkipLast(1).Select(line => line.Text + '\n'))
        );
        Assert.Equal(errors, lines.Where(line => line.Stream == "error").Select(line => line.Text));
        var longest = lines.Last(line => line.Stream == "output");
        Assert.Equal(10485760, longest.Text.Length + longest.Cut);
        Assert.All(lines, line => Assert.True(line is { At: not null, Run: 1 }));
        using var client = sentry.Http();
        var raw = await client.GetByteArrayAsync("http://sentry/api/services/racer/output?from=0");
        Assert.Equal(
            output.Length + 10485761 + errors.SkipLast(1).Sum(line => line.Length + 1) + "and no end".Length,
            raw.Length
        );
        Assert.Equal(3 * 1333, raw.Count(one => one is 0xff or 0xfe or 0));
    }

    /// <summary>A collection waits for each thread to stop: one that got no processor while others are busy would hold up all.</summary>
    [Fact]
    public async Task No_thread_of_the_server_gives_way_to_what_else_runs()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "racer",
            [
                "--turn-at",
                "1MiB",
                "--start",
                "--",
                "/usr/bin/perl",
                "-e",
                "print 'r' x 99, qq(\n) for 1 .. 50000; sleep 694",
            ]
        );
        await Sentry.Eventually(() =>
            Directory.GetFiles(sentry.Places.OutputDirectoryOf("racer"), "output.*.log.gz").Length > 0
        );
        // As its first thread, whatever that was begun with.
        var first = Standing($"/proc/{sentry.ServerPid}");
        Assert.NotNull(first);
        foreach (var thread in Directory.GetDirectories($"/proc/{sentry.ServerPid}/task"))
            Assert.Equal(first, Standing(thread) ?? first);

        // Fields 19 and 41 of proc(5), stat: nice value and scheduling policy; null: it has ended.
        static (string Nice, string Policy)? Standing(string process)
        {
            try
            {
                var stat = File.ReadAllText(Path.Combine(process, "stat"));
                var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
                return (fields[19 - 3], fields[41 - 3]);
            }
            catch (IOException)
            {
                return null;
            }
        }
    }

    [Fact]
    public async Task What_packs_ends_with_the_server_that_began_it()
    {
        await using var sentry = await Sentry.Start();
        var file = Path.Combine(sentry.Places.Root, "output.1.log");
        await File.WriteAllTextAsync(file, "all aboard\n", TestContext.Current.CancellationToken);
        Assert.Equal(1, await Packs(sentry.ServerPid)); // it was begun by another, which is gone
        Assert.True(File.Exists(file));
        Assert.Equal(0, await Packs(Environment.ProcessId));
        Assert.Equal([file + ".gz"], Directory.GetFiles(sentry.Places.Root, "output*"));

        async Task<int> Packs(int parent)
        {
            using var packs = Process.Start(
                Path.Combine(Sentry.Out, "calm-sentry"),
                ["pack", $"{parent}", "beside", file]
            );
            await packs.WaitForExitAsync(TestContext.Current.CancellationToken);
            return packs.ExitCode;
        }
    }

    [Fact]
    public async Task How_it_is_kept_holds_from_the_moment_it_is_changed()
    {
        await using var sentry = await Sentry.Start();
        var fifo = Fifo(sentry);
        await sentry.Wrap("teller", "--start", "--proof", "output:^ready", "--", Teller(sentry, fifo));
        await sentry.Ok("adjust", "teller", "--stamp", "true");
        Assert.False(
            (await sentry.Show("teller")).TryGetProperty("pending", out var pending)
                && pending.ValueKind == System.Text.Json.JsonValueKind.Array
        );
        await File.WriteAllTextAsync(fifo, "tide\n");
        var file = sentry.Places.OutputOf("teller");
        await Sentry.Eventually(async () =>
            (await File.ReadAllTextAsync(file)).EndsWith("Z o heard tide\n", StringComparison.Ordinal)
        );
        Assert.Equal("ready\nheard tide\n", (await sentry.Ok("output", "teller")).Output);
        Assert.Contains(
            "Z o heard tide",
            (await sentry.Ok("output", "teller", "--raw")).Output,
            StringComparison.Ordinal
        );

        // As many files as are to be kept, and it is told what went.
        await sentry.Ok("adjust", "teller", "--keep-files", "0");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "teller", "--kind", "output-let-go")).Output.Contains(
                "1 of its oldest files of output went",
                StringComparison.Ordinal
            )
        );
        Assert.Equal("heard tide\n", (await sentry.Ok("output", "teller")).Output);

        // Fresh at the next start, and turned over at each one.
        await sentry.Ok("adjust", "teller", "--stamp", "false", "--output-write", "fresh");
        await sentry.Ok("restart", "teller");
        Assert.Equal("ready\n", await File.ReadAllTextAsync(file));
        await sentry.Ok("adjust", "teller", "--output-write", "append", "--turn-at-start", "true", "--keep-files", "5");
        await sentry.Ok("restart", "teller");
        Assert.Equal("ready\n", await File.ReadAllTextAsync(file));
        Assert.Equal("ready\nready\n", (await sentry.Ok("output", "teller")).Output);
        Assert.Equal("ready\n", (await sentry.Ok("output", "teller", "--run", "3")).Output);
    }

    [Fact]
    public async Task It_is_found_by_text_expression_time_stream_and_run_also_of_several()
    {
        await using var sentry = await Sentry.Start();
        var fifo = Fifo(sentry);
        await sentry.Wrap("teller", "--start", "--proof", "output:^ready", "--", Teller(sentry, fifo));
        await sentry.Wrap(
            "board",
            "--start",
            "--proof",
            "output:^open",
            "--",
            sentry.Script(
                "board",
                "#!/bin/sh\necho open\nfor i in 1 2 3 4 5; do echo visitor $i; done\necho no paper >&2\nexec sleep 600\n"
            )
        );
        await Sentry.Eventually(async () => (await sentry.Calm("output", "board", "--errors")).Output == "no paper\n");
        await File.WriteAllTextAsync(fifo, "late\n");
        await Sentry.Eventually(async () =>
            (await sentry.Calm("output", "teller", "--find", "late")).Output == "heard late\n"
        );
        Assert.Equal(
            "…\nvisitor 2\nvisitor 3\nvisitor 4\n".Replace("…\n", "", StringComparison.Ordinal),
            (await sentry.Ok("output", "board", "--find", "visitor 3", "--around", "1")).Output
        );
        Assert.Equal(
            "visitor 4\nvisitor 5\n",
            (await sentry.Ok("output", "board", "--match", "(?i)VISITOR [45]")).Output
        );
        Assert.Equal("visitor 5\n", (await sentry.Ok("output", "board", "--find", "visitor", "--last", "1")).Output);
        var none = await sentry.Calm("output", "board", "--find", "pirates");
        Assert.Equal((1, "", "No line of its output fits.\n"), (none.Exit, none.Output, none.Error));
        var both = (await sentry.Ok("output", "teller", "board", "--since", "10min")).Output.Split('\n');
        Assert.EndsWith("teller  ready", both[0], StringComparison.Ordinal);
        Assert.EndsWith("board   open", both[1], StringComparison.Ordinal);
        Assert.EndsWith("teller  heard late", both[^2], StringComparison.Ordinal);
        Assert.Contains(
            "(error) no paper",
            (await sentry.Ok("output", "board", "--times")).Output,
            StringComparison.Ordinal
        );
        foreach (
            var (said, words) in ((string, string[])[])
                [
                    ("'[' is", ["--match", "["]),
                    ("board has no run 7 on record", ["--run", "7"]),
                    ("--around goes with", ["--around", "2"]),
                    ("--follow does not go with --until", ["--follow", "--until", "03:12"]),
                    ("--raw goes with one service", ["--raw", "--errors"]),
                    ("since: found 'yore'", ["--since", "yore"]),
                ]
        )
        {
            var refused = await sentry.Calm(["output", "board", .. words]);
            Assert.NotEqual(0, refused.Exit);
            if (said[0] != '\'')
                Assert.Contains(said, refused.Told, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task Following_what_fits_shows_it_as_it_comes_across_files()
    {
        await using var sentry = await Sentry.Start();
        var fifo = Fifo(sentry);
        await sentry.Wrap("teller", "--start", "--proof", "output:^ready", "--", Teller(sentry, fifo));
        using var following = sentry.Open("output", "teller", "--follow", "--find", "heard", "--times");
        using var all = sentry.Open("output", "teller", "--follow", "--json");
        Assert.Contains("\"text\":\"ready\"", await Next(all), StringComparison.Ordinal);
        foreach (var word in (string[])["tide", "ebb"])
        {
            await File.WriteAllTextAsync(fifo, word + "\n");
            Assert.EndsWith($"heard {word}", await Next(following), StringComparison.Ordinal);
            Assert.Contains($"\"text\":\"heard {word}\"", await Next(all), StringComparison.Ordinal);
            await sentry.Ok("adjust", "teller", "--stamp", word == "tide" ? "true" : "false"); // turns it over
        }

        await Sentry.End(following);
        await Sentry.End(all);

        static async Task<string> Next(System.Diagnostics.Process process) =>
            await process.StandardOutput.ReadLineAsync().InTime() ?? "";
    }

    /// <summary>Writes lines into a log file of its own, opens it anew at USR2, and says how many it wrote.</summary>
    private const string Logger = """
        use IO::Handle; my $path = shift; my $log; my $anew = 1;
        $SIG{USR2} = sub { $anew = 1 };
        print "begins\n"; STDOUT->flush;
        for my $i (1 .. 60000) {
          if ($anew) { $anew = 0; close $log if $log; open $log, ">>", $path or die; $log->autoflush(1); }
          print $log "entry $i of the log, with some words so that it grows\n";
          select undef, undef, undef, 0.001 if $i % 200 == 0;
        }
        print "wrote all\n"; STDOUT->flush; sleep 600;
        """;

    [Theory]
    [InlineData(null)]
    [InlineData("USR2")]
    [InlineData("command:/bin/sh REOPEN")]
    [InlineData("command:/bin/false")]
    public async Task A_log_file_of_its_own_is_kept_found_and_cut_with_the_rights_of_its_account(string? reopen)
    {
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "own"));
        File.SetUnixFileMode(place.FullName, (UnixFileMode)0x1FF);
        var log = Path.Combine(place.FullName, "access.log");
        var script = sentry.Script("reopen", "kill -USR2 $CALM_PID\n");
        await sentry.Wrap(
            "board",
            [
                "--log-file",
                $"access={log}",
                "--turn-at",
                "1MiB",
                .. reopen is null
                    ? Array.Empty<string>()
                    : ["--reopen", reopen.Replace("REOPEN", script.Quoted(), StringComparison.Ordinal)],
                "--proof",
                "output:^begins",
                "--start",
                "--",
                "/usr/bin/perl",
                sentry.Script("logger.pl", Logger),
                log,
            ]
        );
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "board", "--last", "1")).Output == "wrote all\n"
        );
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "board", "--file", "access", "--last", "1")).Output.StartsWith(
                "entry 60000 ",
                StringComparison.Ordinal
            )
        );
        var lines = (await Lines(sentry, "board", "file=access"))
            .Select(line => int.Parse(line.Text.Split(' ')[1], System.Globalization.CultureInfo.InvariantCulture))
            .ToList();
        if (reopen is not null)
            Assert.Equal(Enumerable.Range(1, 60000), lines);
        else
        {
            // What was written in the moment of cutting may be lost; nothing else, and nothing twice.
            Assert.Equal(lines.Distinct().Order(), lines);
            Assert.InRange(lines.Count, 59000, 60000);
        }

        if (reopen?.EndsWith("false", StringComparison.Ordinal) == true)
            Assert.Contains(
                "It was to open its log files anew",
                (await sentry.Ok("logbook", "board", "--kind", "reopen-failed")).Output,
                StringComparison.Ordinal
            );
        // Moved aside, there is none before the program opens it anew.
        Assert.True(!File.Exists(log) || new FileInfo(log).Length < 2 << 20, "it was not cut");
        Assert.Single(
            (await sentry.Calm("output", "board", "--file", "access", "--find", "entry 31415 "))
                .Output.TrimEnd()
                .Split('\n')
        );
        Assert.Contains(
            "it has access",
            (await sentry.Calm("output", "board", "--file", "errors")).Error,
            StringComparison.Ordinal
        );

        // After a rest it goes on where it was, and not from the beginning.
        await sentry.Ok("stop", "board");
        var before = (await Lines(sentry, "board", "file=access")).Count;
        await File.AppendAllTextAsync(log, "entry 0 came while it rested\n");
        File.SetUnixFileMode(log, (UnixFileMode)0x1B6); // where there was none, it is ours now
        await sentry.Ok("start", "board");
        await Sentry.Eventually(async () =>
            (await sentry.Calm("output", "board", "--file", "access", "--find", "entry 0 ")).Output
            == "entry 0 came while it rested\n"
        );
        Assert.Equal("entry 0 came while it rested", (await Lines(sentry, "board", "file=access"))[before].Text);
    }

    /// <summary>It is emptied by its program before the sentry looks at it: what it holds then may be as long as before, or the same.</summary>
    [Fact]
    public async Task A_log_file_that_each_run_begins_anew_is_kept_whole_of_each()
    {
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "own"));
        File.SetUnixFileMode(place.FullName, (UnixFileMode)0x1FF);
        var (log, next) = (Path.Combine(place.FullName, "access.log"), Path.Combine(place.FullName, "next"));
        var script = sentry.Script("anew.sh", $"cat {next.Quoted()} > {log.Quoted()}\necho begins\nexec sleep 600\n");
        await sentry.Wrap("board", "--log-file", $"access={log}", "--proof", "output:^begins", "--", script);
        var kept = "";
        foreach (
            var text in (string[])
                [
                    "tide 1 at noon\n",
                    "tide 2 at noon\n",
                    "tide 3 at noon, and at night\n",
                    "tide 3 at noon, and at night\n",
                ]
        )
        {
            await File.WriteAllTextAsync(next, text);
            await sentry.Ok("start", "board");
            kept += text;
            await Sentry.Eventually(async () =>
                (await sentry.Ok("output", "board", "--file", "access")).Output == kept
            );
            await sentry.Ok("stop", "board");
        }

        // While it runs, too.
        await sentry.Ok("start", "board");
        kept += "tide 3 at noon, and at night\n";
        await Sentry.Eventually(async () => (await sentry.Ok("output", "board", "--file", "access")).Output == kept);
        await File.WriteAllTextAsync(log, "tide 4 at noon, and at night\n");
        kept += "tide 4 at noon, and at night\n";
        await Sentry.Eventually(async () => (await sentry.Ok("output", "board", "--file", "access")).Output == kept);
        // One that rewrites its beginning alone did not begin anew.
        var berths = new string('~', 2000) + "\n";
        await File.AppendAllTextAsync(log, berths);
        kept += berths;
        await Sentry.Eventually(async () => (await sentry.Ok("output", "board", "--file", "access")).Output == kept);
        await using (var page = new FileStream(log, FileMode.Open, FileAccess.Write, FileShare.ReadWrite))
        {
            page.Write("TIDE"u8);
            await page.FlushAsync();
            page.Seek(0, SeekOrigin.End);
            page.Write("tide 5\n"u8);
        }

        kept += "tide 5\n";
        await Sentry.Eventually(async () => (await sentry.Ok("output", "board", "--file", "access")).Output == kept);
        // A write that finds no room changes its time, and nothing else.
        File.SetLastWriteTimeUtc(log, DateTime.UtcNow);
        await sentry.Ok("stop", "board");
        File.SetLastWriteTimeUtc(log, DateTime.UtcNow.AddMinutes(-1)); // and not in the moment in which the next run is laid out
        await File.WriteAllTextAsync(next, "tide 6\n");
        await sentry.Ok("start", "board");
        kept += "tide 6\n";
        await Sentry.Eventually(async () => (await sentry.Ok("output", "board", "--file", "access")).Output == kept);
    }

    /// <param name="stays">What the program moved away is still there when it is looked for.</param>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_log_file_that_its_program_moves_away_while_its_keeper_is_killed_is_whole_or_the_gap_is_marked(
        bool stays
    )
    {
        await using var sentry = await Sentry.Start();
        var (log, pid) = await Rotates(sentry);
        await sentry.KillServer();
        Sentry.Kill(Sentry.Parent(pid));
        await MoveAway(log, pid, 3000);
        if (!stays)
            File.Delete(log + ".1");
        await sentry.Serve();
        await Sentry.Eventually(async () => (await Entries(sentry)) is [.., "entry 4000"]);
        var entries = await Entries(sentry);
        var all = Enumerable.Range(1, 4000).Select(number => $"entry {number}");
        Assert.Equal(
            stays
                ? all
                :
                [
                    .. all.Take(1000),
                    "[calm: the file before was moved away while nobody read it; what it got last may be missing]",
                    .. all.Skip(2000),
                ],
            entries
        );
    }

    /// <param name="blind">It cannot look into the directory for a while, either: it has no descriptor left.</param>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Log_files_that_come_and_go_while_their_keeper_stands_still_are_a_mark(bool blind)
    {
        await using var sentry = await Sentry.Start();
        var (log, pid) = await Rotates(sentry);
        var keeper = Sentry.Parent(pid);
        Sentry.Kill(keeper, "STOP");
        await MoveAway(log, pid, 3000);
        await MoveAway(log, pid, 5000);
        if (blind)
            Descriptors(Directory.GetFiles($"/proc/{keeper}/fd").Length);
        Sentry.Kill(keeper, "CONT");
        if (blind)
        {
            await Sentry.Eventually(async () => (await Entries(sentry)) is [.., "entry 2000"]);
            Descriptors(1024);
        }

        await Sentry.Eventually(async () => (await Entries(sentry)) is [.., "entry 5000"]);
        Assert.Equal(
            [
                .. Enumerable.Range(1, 2000).Select(number => $"entry {number}"),
                "[calm: files that came and went meanwhile are not kept: 1]",
                .. Enumerable.Range(4001, 1000).Select(number => $"entry {number}"),
            ],
            await Entries(sentry)
        );

        void Descriptors(int most) =>
            Process.Start("prlimit", ["--pid", $"{keeper}", $"--nofile={most}:"]).WaitForExit();
    }

    /// <summary>A program that moves its own log file away when it is told, with a thousand entries before and after.</summary>
    private static async Task<(string Log, int Pid)> Rotates(Sentry sentry)
    {
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "own"));
        File.SetUnixFileMode(place.FullName, (UnixFileMode)0x1FF);
        var log = Path.Combine(place.FullName, "access.log");
        var script = sentry.Script(
            "rotate.pl",
            """
            $log = $ARGV[0]; $n = -s "$log.count" || 0; sub entry {
              print LOG "entry ", ++$n, "\n" for 1..1000; open C, ">>$log.count"; print C "x" x 1000; close C }
            sub anew { open LOG, ">>$log"; LOG->autoflush(1) } use IO::Handle; anew; entry;
            $SIG{USR1} = sub { entry; rename "$log.1", "$log.2"; rename $log, "$log.1"; anew; entry };
            STDOUT->autoflush(1); print "begins\n"; sleep 600 while 1;
            """
        );
        await sentry.Wrap(
            "board",
            ["--log-file", $"access={log}", "--proof", "output:^begins", "--start", "--", "/usr/bin/perl", script, log]
        );
        await Sentry.Eventually(async () => (await Entries(sentry)).Count == 1000);
        return (log, (await sentry.Show("board")).GetProperty("pid").GetInt32());
    }

    /// <returns>Completes when there are so many entries.</returns>
    private static Task MoveAway(string log, int pid, long entries)
    {
        Sentry.Kill(pid, "USR1");
        return Sentry.Eventually(() => Task.FromResult(new FileInfo(log + ".count").Length == entries));
    }

    private static async Task<IReadOnlyList<string>> Entries(Sentry sentry) =>
        [.. (await Lines(sentry, "board", "file=access")).Select(line => line.Text)];

    [Fact]
    public async Task A_log_file_that_its_account_may_not_read_is_not_read_for_it()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to have something that others may not read");
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "own")).FullName;
        File.SetUnixFileMode(place, (UnixFileMode)0x1FF);
        var (secret, open) = (Path.Combine(sentry.Places.Root, "secret"), Path.Combine(place, "open.log"));
        await File.WriteAllTextAsync(secret, "");
        File.SetUnixFileMode(secret, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.GroupRead);
        File.CreateSymbolicLink(Path.Combine(place, "linked.log"), secret);
        File.CreateSymbolicLink(Path.Combine(place, "kernel.log"), "/proc/1/maps"); // root alone may, whatever its mode
        await File.WriteAllTextAsync(open, "");
        await sentry.Wrap(
            "board",
            "--log-file",
            $"secret={secret}",
            "--log-file",
            $"linked={Path.Combine(place, "linked.log")}",
            "--log-file",
            $"kernel={Path.Combine(place, "kernel.log")}",
            "--log-file",
            $"open={open}",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        await File.AppendAllTextAsync(secret, "herring\n");
        await File.AppendAllTextAsync(open, "cod\n");
        await Sentry.Eventually(async () => (await sentry.Ok("output", "board", "--file", "open")).Output == "cod\n");
        await sentry.Ok("stop", "board");
        foreach (var file in (string[])["secret", "linked", "kernel"])
            Assert.Equal("Nothing was printed.\n", (await sentry.Ok("output", "board", "--file", file)).Error);
    }

    private static string Fifo(Sentry sentry)
    {
        var fifo = Path.Combine(sentry.Places.Root, "words");
        System.Diagnostics.Process.Start("mkfifo", ["-m", "666", fifo]).WaitForExit();
        return fifo;
    }

    private static string Teller(Sentry sentry, string fifo) =>
        sentry.Script(
            "teller",
            $"#!/bin/sh\necho ready\nexec 3<>{fifo.Quoted()}\nwhile read -r word <&3; do echo \"heard $word\"; done\n"
        );

    private static async Task<IReadOnlyList<OutputLineView>> Lines(Sentry sentry, string name, string query)
    {
        using var client = sentry.Http();
        var text = await client.GetStringAsync($"http://sentry/api/services/{name}/output/lines?{query}");
        return
        [
            .. text.Split('\n', StringSplitOptions.RemoveEmptyEntries)
                .Select(line => System.Text.Json.JsonSerializer.Deserialize(line, ApiJson.Default.OutputLineView)!),
        ];
    }
}
