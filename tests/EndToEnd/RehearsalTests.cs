namespace CalmSentry.Tests.EndToEnd;

/// <summary>A rehearsal runs a program as its service would, says what it saw, and leaves nothing behind.</summary>
[Needs("memcached", "perl")]
public class RehearsalTests
{
    private static void NothingIsLeft(Sentry sentry)
    {
        Assert.Empty(Directory.GetFileSystemEntries(Path.Combine(sentry.Places.RunDirectory, "rehearsals")));
        Assert.DoesNotContain(
            Directory.GetDirectories("/proc"),
            process =>
                Environment(process).Contains($"CALM_RUN={sentry.Places.RunDirectory}:~", StringComparison.Ordinal)
        );
    }

    private static string Environment(string process)
    {
        try
        {
            return File.ReadAllText($"{process}/environ");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    [Fact]
    public async Task Of_a_real_daemon_it_sees_port_memory_and_stop()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        var report = (
            await sentry.Ok(
                "rehearse",
                "tide-store",
                "--account",
                Sentry.Account,
                "--for",
                "1s",
                "--json",
                "--",
                "/usr/bin/memcached",
                "-l",
                "127.0.0.1",
                "-p",
                $"{port}"
            )
        ).Json;
        Assert.True(report.GetProperty("stayed-up").GetBoolean());
        var seen = Assert.Single(
            report.GetProperty("ports").EnumerateArray(),
            one => one.GetProperty("protocol").GetString() == "tcp"
        );
        Assert.Equal((port, "this host"), (seen.GetProperty("port").GetInt32(), seen.GetProperty("reach").GetString()));
        Assert.InRange(report.GetProperty("peak-bytes").GetInt64(), 100_000, 500_000_000);
        Assert.Contains("after TERM was sent", report.GetProperty("stop").GetString(), StringComparison.Ordinal);
        Assert.DoesNotContain(
            report.GetProperty("proposals").EnumerateArray(),
            one => one.GetProperty("key").GetString() == "resources.memory"
        );
        Assert.DoesNotContain("memory", report.GetProperty("file").GetString(), StringComparison.Ordinal);
        NothingIsLeft(sentry);
        Assert.Equal(4, (await sentry.Calm("show", "tide-store")).Exit); // nothing was registered
    }

    [Fact]
    public async Task A_ceiling_that_it_comes_near_while_idle_is_said_and_none_is_proposed()
    {
        await using var sentry = await Sentry.Start();
        var report = (
            await sentry.Ok(
                "rehearse",
                "hoard",
                "--account",
                Sentry.Account,
                "--memory",
                "64 MiB",
                "--for",
                "1s",
                "--json",
                "--",
                "/usr/bin/perl",
                "-e",
                "vec(my $kept, 50 << 20, 8) = 1; sleep 60"
            )
        ).Json;
        var said = Assert.Single(
            report.GetProperty("proposals").EnumerateArray(),
            one => one.GetProperty("key").GetString() == "resources.memory"
        );
        Assert.Equal(System.Text.Json.JsonValueKind.Null, said.GetProperty("value").ValueKind);
        Assert.Contains("the ceiling is 64 MiB", said.GetProperty("why").GetString(), StringComparison.Ordinal);
    }

    [Fact]
    public async Task It_runs_as_the_service_would_and_shows_both_streams()
    {
        await using var sentry = await Sentry.Start();
        var tells = sentry.Script(
            "tells",
            "#!/bin/sh\nenv | grep -vE 'CALM_(RUN|SAY)' | sort\nid -un; pwd; umask; tty; echo oops >&2\necho x "
                + ">\"$CALM_STATE/kept\"\nexit 3\n"
        );
        await sentry.Wrap("tells", "--environment", "TIDE=high", "--umask", "0027", "--", tells);
        var rehearsed = await sentry.Calm("rehearse", "tells", "--for", "5s");
        Assert.Equal(1, rehearsed.Exit);
        Assert.Contains("It did not stay up: it exited with code 3", rehearsed.Output, StringComparison.Ordinal);
        Assert.Contains("  ! oops\n", rehearsed.Output, StringComparison.Ordinal);
        Assert.Contains(
            Path.Combine(sentry.Places.StateOf("tells"), "kept"),
            rehearsed.Output,
            StringComparison.Ordinal
        );
        await sentry.Calm("start", "tells");
        await sentry.Ok("stop", "tells");
        // Line for line what the service prints.
        var service = (await File.ReadAllLinesAsync(sentry.Places.OutputOf("tells")))
            .Where(line => line != "oops")
            .Take(12)
            .ToList();
        Assert.Contains("TIDE=high", service);
        Assert.Equal(
            service,
            rehearsed
                .Output.Split('\n')
                .Where(line => line.StartsWith("    ", StringComparison.Ordinal))
                .Select(line => line[4..])
                .Take(12)
        );
        NothingIsLeft(sentry);
    }

    [Fact]
    public async Task What_it_proposes_can_be_adopted_or_written()
    {
        await using var sentry = await Sentry.Start();
        var relay = sentry.Script(
            "relay",
            "#!/bin/sh\n(setsid sh -c 'echo $$ >\"$CALM_STATE/relay.pid\"; trap \"sleep 0.5; exit 0\" TERM; while "
                + ":; do sleep 0.05; done' &)\nexit 0\n"
        );
        await sentry.Wrap("relay", "--wind-down", "TERM 1s", "--", relay);
        var file = Path.Combine(sentry.Places.Root, "relay.yaml");
        var said = await sentry.Ok("rehearse", "relay", "--for", "1s", "--adopt", "--write", file);
        Assert.Contains("program.kind is now 'detaches' (was 'stays')", said.Output, StringComparison.Ordinal);
        await sentry.Ok("start", "relay");
        Assert.Equal(
            $"{(await sentry.Show("relay")).GetProperty("pid")}",
            (await File.ReadAllTextAsync(Path.Combine(sentry.Places.StateOf("relay"), "relay.pid"))).Trim()
        );
        var shown = (await sentry.Show("relay")).GetProperty("definition");
        Assert.Equal("10 s", shown.GetProperty("wind-down")[0].GetProperty("wait").GetString()); // it took half a second of one
        Assert.Equal(
            Path.Combine(sentry.Places.StateOf("relay"), "relay.pid"),
            shown.GetProperty("program").GetProperty("pid-file").GetString()
        );
        await sentry.Ok("unwrap", "relay", "--yes");
        await sentry.Ok("wrap", "--from", file);
        Assert.Equal(
            "detaches",
            (await sentry.Show("relay"))
                .GetProperty("definition")
                .GetProperty("program")
                .GetProperty("kind")
                .GetString()
        );
    }

    [Fact]
    public async Task A_stubborn_program_is_ended_and_the_report_says_so()
    {
        await using var sentry = await Sentry.Start();
        var stubborn = sentry.Script(
            "stubborn",
            "#!/bin/sh\ntrap '' TERM\nsetsid sleep 600 &\nwhile :; do sleep 1; done\n"
        );
        var said = await sentry.Ok(
            "rehearse",
            "stubborn",
            "--account",
            Sentry.Account,
            "--wind-down",
            "TERM 200ms",
            "--for",
            "300ms",
            "--",
            stubborn
        );
        Assert.Contains(
            "was killed: as a service it would lose what it has not written by then",
            said.Output,
            StringComparison.Ordinal
        );
        NothingIsLeft(sentry);
    }

    [Fact]
    public async Task What_is_refused_is_not_run()
    {
        await using var sentry = await Sentry.Start();
        var refused = await sentry.Calm("rehearse", "x", "--account", "daemon", "--", "/bin/sleep", "600");
        Assert.Contains("The account daemon is not permitted", refused.Error, StringComparison.Ordinal);
        await sentry.Wrap("board", "--start", "--", "/bin/sleep", "600");
        Assert.Contains(
            "would be a second copy",
            (await sentry.Calm("rehearse", "board")).Error,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task Ctrl_C_ends_it_and_still_reports()
    {
        await using var sentry = await Sentry.Start();
        using var calm = sentry.Open(
            "rehearse",
            "board",
            "--account",
            Sentry.Account,
            "--for",
            "1h",
            "--",
            sentry.Script("board", "#!/bin/sh\necho up\nexec sleep 600\n")
        );
        Assert.Equal("    up", await calm.StandardOutput.ReadLineAsync());
        Sentry.Kill(calm.Id, "INT");
        Assert.Contains("It stayed up for", await calm.StandardOutput.ReadToEndAsync(), StringComparison.Ordinal);
        NothingIsLeft(sentry);
    }

    [Fact]
    public async Task Whoever_leaves_or_dies_in_the_middle_leaves_nothing_running()
    {
        await using var sentry = await Sentry.Start();
        var board = sentry.Script("board", "#!/bin/sh\necho $$\nexec sleep 600\n");
        foreach (var server in new[] { false, true })
        {
            using var calm = sentry.Open(
                "rehearse",
                server ? "board" : "other-board",
                "--account",
                Sentry.Account,
                "--for",
                "1h",
                "--",
                board
            );
            var pid = int.Parse((await calm.StandardOutput.ReadLineAsync())!.Trim());
            Assert.True(Sentry.Lives(pid));
            if (server)
                await sentry.KillServer();
            else
                calm.Kill();
            if (server)
                await sentry.Serve();
            await Sentry.Eventually(() => !Sentry.Lives(pid));
        }

        await Sentry.Eventually(() =>
            Directory.GetFileSystemEntries(Path.Combine(sentry.Places.RunDirectory, "rehearsals")).Length == 0
        );
        NothingIsLeft(sentry);
    }

    [Fact]
    public async Task Compared_with_ones_own_shell_it_names_what_differs()
    {
        await using var sentry = await Sentry.Start();
        var needs = sentry.Script(
            "needs",
            "#!/bin/sh\n[ -n \"$TIDE_TABLE\" ] || { echo 'no tide table' >&2; exit 4; }\nexec sleep 600\n"
        );
        await sentry.Wrap("needs", "--", needs);
        using var calm = sentry.Open(
            new Dictionary<string, string> { ["TIDE_TABLE"] = "/srv/tides", ["SUDO_UID"] = "1" },
            "rehearse",
            "needs",
            "--for",
            "500ms",
            "--compare-with-mine"
        );
        var said = await calm.StandardOutput.ReadToEndAsync();
        Assert.Contains("As its service: It did not stay up: it exited with code 4", said, StringComparison.Ordinal);
        Assert.Contains("As you, here:   It stayed up", said, StringComparison.Ordinal);
        Assert.Contains("variable TIDE_TABLE: you have it, the service does not", said, StringComparison.Ordinal);
        if (System.Environment.UserName == "root")
            Assert.Contains("account: 'daemon' for you, 'nobody' for the service", said, StringComparison.Ordinal);
    }

    /// <summary>What sees no terminal, and behaves otherwise for that, is told apart by what it prints and when.</summary>
    [Theory]
    [InlineData("#!/bin/sh\ntty || exit 3\n", "program.terminal: 120x40", "It asks for a terminal: 'not a tty'")]
    [InlineData(
        "#!/usr/bin/perl\nwhile (1) { print \"berth 7 is taken by the evening ferry\\n\" for 1..12; select undef, undef, undef, 0.05 }\n",
        "program.terminal: true",
        "comes in whole blocks that end within a line"
    )]
    [InlineData(
        "#!/usr/bin/perl\n$SIG{TERM} = sub { exit 0 };\nwhile (1) { print \"gate open\\n\"; select undef, undef, undef, 0.2 }\n",
        "program.terminal: true",
        "It printed nothing while it was up"
    )]
    [InlineData("#!/bin/sh\nwhile echo tide; do sleep 0.2; done\n", null, null)]
    public async Task What_sees_no_terminal_and_behaves_otherwise_is_seen(string text, string? proposed, string? why)
    {
        await using var sentry = await Sentry.Start();
        var said = await sentry.Calm(
            "rehearse",
            "--account",
            Sentry.Account,
            "--for",
            "2s",
            "--",
            sentry.Script("quay", text)
        );
        Assert.Equal(proposed is not null, said.All.Contains("program.terminal", StringComparison.Ordinal));
        Assert.Contains(proposed ?? "", said.All, StringComparison.Ordinal);
        Assert.Contains(why ?? "", said.All, StringComparison.Ordinal);
    }
}
