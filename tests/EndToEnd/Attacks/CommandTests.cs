using System.Diagnostics;
using System.Globalization;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// Commands run for a service, and programs that print without end: nothing outlives its limit, nothing fills the disk.
/// </summary>
[Needs("perl")]
public class CommandTests
{
    [Theory]
    [InlineData("watch")]
    [InlineData("proof")]
    [InlineData("stop")]
    public async Task A_daemon_that_a_command_leaves_behind_ends_with_the_command(string what)
    {
        await using var sentry = await Sentry.Start();
        // It leaves the session, its parent and its environment: what could tell where it came from.
        var leaves = sentry.Script(
            "leaves",
            "#!/usr/bin/perl\nuse POSIX;\nif (fork == 0) { POSIX::setsid(); exit 0 if fork; open STDIN, '<', "
                + "'/dev/null'; open STDOUT, '>', '/dev/null'; open STDERR, '>', '/dev/null'; %ENV = (); exec { "
                + "'/bin/sleep' } 'calm-left-behind', '600' }\nselect undef, undef, undef, 0.2;\nexit 0;\n"
        );
        string[] flags = what switch
        {
            "watch" => ["--watch", $"command:{leaves.Quoted()},beat=1s"],
            "proof" => ["--proof", $"command:{leaves.Quoted()}"],
            _ => ["--wind-down", $"command:{leaves.Quoted()},wait=5s", "--wind-down", "TERM 5s"],
        };
        await sentry.Wrap("board", [.. flags, "--start", "--", "/bin/sleep", "600"]);
        if (what == "watch")
            await Sentry.Eventually(async () =>
                (await sentry.Show("board"))
                    .GetProperty("watches")
                    .EnumerateArray()
                    .Any(watch => watch.ToString().Contains("succeeded", StringComparison.Ordinal))
            );
        if (what == "stop")
            await sentry.Ok("stop", "board");
        Assert.Empty(LeftBehind());
        await sentry.Ok("unwrap", "board", "--yes");
        Assert.Empty(LeftBehind());
    }

    [Fact]
    public async Task A_command_runs_within_its_services_ceilings()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to set a ceiling");
        await using var sentry = await Sentry.Start();
        var grows = sentry.Script("grows", "#!/usr/bin/perl\nmy $x = 'x' x (200 << 20);\nprint length $x, \"\\n\";\n");
        await sentry.Wrap(
            "board",
            "--memory",
            "48 MiB",
            "--watch",
            $"command:{grows.Quoted()},beat=1s,patience=1,follows=tell",
            "--proof",
            "up-for:0s",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        var poor = await sentry.Until("board", view => view.GetProperty("health").GetString() == "poor");
        Assert.Contains("grows", poor.GetProperty("why").GetString(), StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("yes")]
    [InlineData("cat /dev/zero")]
    public async Task A_command_that_prints_without_end_costs_the_sentry_little_and_ends_with_its_limit(string prints)
    {
        await using var sentry = await Sentry.Start();
        var before = Memory(sentry.ServerPid);
        await sentry.Wrap(
            "board",
            "--watch",
            $"command:/bin/sh -c '{prints}',beat=1s,patience=1,follows=tell",
            "--proof",
            "up-for:0s",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        var poor = await sentry.Until("board", view => view.GetProperty("health").GetString() == "poor");
        Assert.Contains("cannot be run, or takes over", poor.GetProperty("why").GetString(), StringComparison.Ordinal);
        Assert.InRange(Memory(sentry.ServerPid) - before, long.MinValue, 64 << 20);
    }

    [Theory]
    [InlineData("yes ''")]
    [InlineData("cat /dev/zero")]
    public async Task Output_without_end_is_looked_through_for_a_proof_at_the_sentrys_own_pace(string prints)
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        var logs = Directory.CreateDirectory(sentry.Places.OutputDirectoryOf("board")).FullName;
        Process.Start("mount", ["-t", "tmpfs", "-o", "size=256m,mode=755", "small", logs]).WaitForExit();
        try
        {
            var before = Memory(sentry.ServerPid);
            await sentry.Wrap(
                "board",
                "--proof",
                "output:^never$,within=5s",
                "--recover",
                "never",
                "--",
                "/bin/sh",
                "-c",
                $"exec {prints}"
            );
            await sentry.Calm("start", "board");
            Assert.InRange(Memory(sentry.ServerPid) - before, long.MinValue, 64 << 20);
            // The disk is left a reserve, and a stop is a stop.
            var drive = new DriveInfo(logs);
            Assert.True(
                drive.AvailableFreeSpace >= drive.TotalSize / 25,
                $"{drive.AvailableFreeSpace} of {drive.TotalSize} are left"
            );
            Assert.Equal(0, (await sentry.Calm("stop", "board")).Exit);
        }
        finally
        {
            await sentry.Calm("unwrap", "board", "--yes");
            Process.Start("umount", ["-l", logs]).WaitForExit();
        }
    }

    [Fact]
    public async Task A_command_inherits_no_descriptor_of_the_sentrys()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "board",
            "--proof",
            "command:"
                + sentry
                    .Script(
                        "looks",
                        "#!/bin/sh\nls -l /proc/self/fd | awk 'NR > 1 { print $9 }' >\"$CALM_STATE\"/open\n"
                    )
                    .Quoted(),
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        // Its three streams, and what ls itself has open while it looks.
        Assert.Equal("0\n1\n2\n3\n", await File.ReadAllTextAsync(Path.Combine(sentry.Places.StateOf("board"), "open")));
    }

    [Fact]
    public async Task With_the_sentrys_own_disk_full_it_starts_and_stops_and_says_what_is_not_on_record()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        await sentry.KillServer();
        var library = sentry.Places.Library;
        Process.Start("mount", ["-t", "tmpfs", "-o", "size=4m,mode=711", "small", library]).WaitForExit();
        try
        {
            await sentry.Serve();
            await sentry.Ok("account", "permit", Sentry.Account);
            await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
            Process.Start("sh", ["-c", $"cat /dev/zero >{library.Quoted()}/fill 2>/dev/null"]).WaitForExit();
            // The first change to meet it is kept, or refused: never taken with a word on the side.
            var first = await sentry.Calm("adjust", "board", "--notes", "by the quay");
            Assert.DoesNotContain("not on record", first.Error, StringComparison.Ordinal);
            if (first.Exit == 0)
            {
                await sentry.KillServer();
                await sentry.Serve();
                Assert.Contains(
                    "by the quay",
                    (await sentry.Ok("show", "board", "--yaml")).Output,
                    StringComparison.Ordinal
                );
            }

            await sentry.Ok("logbook"); // something to be written has met the full disk
            var stopped = await sentry.Calm("stop", "board");
            Assert.Contains("not on record yet", stopped.Error, StringComparison.Ordinal);
            Assert.Equal(6, stopped.Exit);
            Assert.Empty(sentry.Processes("board"));
            // A server that returns does not undo it.
            await sentry.KillServer();
            await sentry.Serve();
            Assert.Equal("stopped", (await sentry.Show("board")).GetProperty("state").GetString());
            Assert.Equal(6, (await sentry.Calm("start", "board")).Exit);
            await sentry.KillServer();
            await sentry.Serve();
            await sentry.Until("board", view => view.GetProperty("state").GetString() == "running");
            foreach (
                var look in (string[][])
                    [
                        ["host", "status"],
                        ["board", "--once"],
                    ]
            )
            {
                // Its answer says so itself, once, and in words.
                var said = await sentry.Ok(look);
                Assert.Contains(
                    $"The store cannot be written: the disk of {library} is full. It is tried again every second.",
                    said.Output,
                    StringComparison.Ordinal
                );
                Assert.Equal("", said.Error);
            }

            Assert.Contains("not on record yet", (await sentry.Ok("list")).Error, StringComparison.Ordinal);
            foreach (
                var change in (string[][])
                    [
                        ["wrap", "tide", "--account", Sentry.Account, "--", "/bin/sleep", "601"],
                        ["adjust", "board", "--title", "Departure board"],
                    ]
            )
            {
                var refused = await sentry.Calm(change);
                Assert.Equal(1, refused.Exit);
                Assert.Contains("Nothing was changed", refused.Error, StringComparison.Ordinal);
            }

            // And it ends when it is asked to, whatever waits for the disk.
            await sentry.EndServer();
            await sentry.Serve();
            File.Delete(Path.Combine(library, "fill"));
            await Sentry.Eventually(async () =>
                !(await sentry.Calm("stop", "board")).Error.Contains("not on record", StringComparison.Ordinal)
            );
            Assert.Contains("started as pid", (await sentry.Ok("logbook", "board")).Output, StringComparison.Ordinal);
            await sentry.Ok("unwrap", "board", "--yes");
        }
        finally
        {
            await sentry.KillServer();
            Process.Start("umount", ["-l", library]).WaitForExit();
        }
    }

    [Fact]
    public async Task A_page_that_is_asked_gets_no_cookie_of_another_services_and_no_end_of_a_body_is_waited_for()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "board",
            "--proof",
            $"http:http://127.0.0.1:{port}/,text=quay",
            "--watch",
            $"http:http://127.0.0.1:{port}/,beat=1s",
            "--",
            sentry.Script(
                "board",
                $$"""
                #!/usr/bin/perl
                use IO::Socket::INET; $| = 1; $SIG{PIPE} = 'IGNORE'; $SIG{CHLD} = 'IGNORE';
                my $s = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => {{port}}, Listen => 9, ReuseAddr => 1) or die;
                while (my $c = $s->accept) {
                  next if fork;
                  while (<$c>) { print "asked with $_" if /^cookie/i; last if /^\r?$/ }
                  print $c "HTTP/1.1 200 OK\r\nSet-Cookie: board=mine; Path=/\r\n\r\nquay 2 "; print "asked\n";
                  while (print $c 'x' x 65536) { }
                  exit 0;
                }
                """
            )
        );
        await sentry.Ok("start", "board");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "board")).Output.Split('\n').Count(line => line == "asked") >= 3
        );
        Assert.DoesNotContain(
            "cookie",
            (await sentry.Ok("output", "board")).Output,
            StringComparison.OrdinalIgnoreCase
        );
    }

    private static IEnumerable<int> LeftBehind() =>
        Directory
            .EnumerateDirectories("/proc")
            .Select(Path.GetFileName)
            .Where(name => name!.All(char.IsAsciiDigit))
            .Select(name => int.Parse(name!, CultureInfo.InvariantCulture))
            .Where(pid => Sentry.CommandLine(pid).StartsWith("calm-left-behind", StringComparison.Ordinal));

    /// <summary>Resident memory of a process in bytes.</summary>
    private static long Memory(int pid) =>
        long.Parse(File.ReadAllText($"/proc/{pid}/statm").Split(' ')[1], CultureInfo.InvariantCulture)
        * Environment.SystemPageSize;
}
