using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>What a week of daily use brings: many services at once, settings read anew, truth where something is only half well.</summary>
[Needs("perl")]
public class DailyTests
{
    private static string State(System.Text.Json.JsonElement view) => view.GetProperty("state").GetString()!;

    [Fact]
    public async Task Many_are_asked_for_at_once_by_pattern_and_by_label()
    {
        await using var sentry = await Sentry.Start();
        foreach (var name in (string[])["till-1", "till-2", "till-10", "gate"])
            await sentry.Wrap(
                name,
                "--label",
                name == "gate" ? "doors" : "tills",
                "--proof",
                "up-for:10ms",
                "--",
                "/bin/sleep",
                "600"
            );
        await sentry.Ok("start", "till-?", "gate");
        Assert.Equal(
            ["till-1", "till-2"],
            Names(await sentry.Ok("list", "--label", "tills", "--state", "running", "--json"))
        );
        Assert.Equal(
            ["gate", "till-1", "till-2", "till-10"],
            Names(await sentry.Ok("list", "--json")) // till-2 before till-10
        );
        Assert.Equal(
            "Would be stopped, each after those that need it: till-2, till-1. They do not run: till-10. Nothing was done.\n",
            (await sentry.Ok("stop", "--label", "tills", "--dry")).Output
        );
        Assert.Equal(4, (await sentry.Calm("stop", "quay-*")).Exit);
        Assert.Equal(2, (await sentry.Calm("stop", "gate", "--label", "tills")).Exit);
        await sentry.Ok("stop", "--label", "tills");
        Assert.Equal(["gate"], Names(await sentry.Ok("list", "--state", "running", "--json")));

        // Where nobody can be asked, removing takes a word.
        var unasked = await sentry.Calm("unwrap", "till-*");
        Assert.Equal(2, unasked.Exit);
        Assert.Contains("calm unwrap till-1 till-2 till-10 --yes", unasked.Error, StringComparison.Ordinal);
        Assert.Equal(4, Names(await sentry.Ok("list", "--json")).Count);
        await sentry.Ok("unwrap", "till-*", "--yes");
        Assert.Equal(["gate"], Names(await sentry.Ok("list", "--json")));

        // What show prints as a file is taken in again as it is.
        var file = (await sentry.Ok("show", "gate", "--yaml")).Output;
        await sentry.Ok("unwrap", "gate", "--yes");
        var piped = await sentry.Piped(file, "wrap", "--from", "-");
        Assert.True(piped.Exit == 0, piped.All);
        Assert.Equal(file, (await sentry.Ok("show", "gate", "--yaml")).Output);

        static List<string> Names(Said said) =>
            [.. said.Json.EnumerateArray().Select(view => view.GetProperty("name").GetString()!)];
    }

    [Fact]
    public async Task A_definition_is_changed_in_somebodys_editor()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("gate", "--", "/bin/sleep", "600");
        Assert.Contains("left as it was", (await Edit("true", "gate")).Output, StringComparison.Ordinal);
        Assert.Contains("700", (await Edit("sed -i s/600/700/", "gate")).Output, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Show("gate")).GetProperty("revision").GetInt64());

        // What is wrong is named with its place, and what was written is not lost.
        var wrong = await Edit("sed -i s/^program:/prgram:/", "gate");
        Assert.Equal(2, wrong.Exit);
        Assert.Contains("prgram", wrong.Error, StringComparison.Ordinal);
        var kept = wrong.Error.Split("is kept in ")[1].Split("gate.yaml")[0] + "gate.yaml";
        Assert.Contains(
            "prgram:",
            await File.ReadAllTextAsync(kept, TestContext.Current.CancellationToken),
            StringComparison.Ordinal
        );
        Directory.Delete(Path.GetDirectoryName(kept)!, recursive: true);
        Assert.Equal(1, (await Edit("false", "gate")).Exit);

        // Somebody else was quicker.
        var calm = $"{sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()}";
        var late = await Edit($"{calm} adjust gate --priority below-normal; sed -i s/700/800/", "gate");
        Assert.Contains("Changed meanwhile:", late.Error, StringComparison.Ordinal);
        Assert.Contains("resources.priority is now 'below-normal'", late.Error, StringComparison.Ordinal);
        Assert.Contains("Yours would change:", late.Error, StringComparison.Ordinal);

        async Task<Said> Edit(string editor, string service)
        {
            using var process = sentry.Open(
                new Dictionary<string, string> { ["VISUAL"] = "", ["EDITOR"] = editor },
                "adjust",
                service,
                "--edit"
            );
            process.StandardInput.Close();
            var output = process.StandardOutput.ReadToEndAsync();
            var error = process.StandardError.ReadToEndAsync();
            await process.WaitForExitAsync().InTime();
            return new(process.ExitCode, await output, await error);
        }
    }

    [Fact]
    public async Task It_is_told_to_read_its_settings_anew_and_looked_at_after_that()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        var settings = Path.Combine(sentry.Places.Root, "gate.conf");
        await File.WriteAllTextAsync(settings, "closed");
        var gate = sentry.Script(
            "gate",
            $$"""
            #!/usr/bin/perl
            use IO::Socket::INET;
            $| = 1;
            my $s = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => {{port}}, Listen => 9, ReuseAddr => 1) or die;
            my $anew = 0;
            $SIG{HUP} = sub { $anew = 1 };
            while (1) {
                if ($anew) { $anew = 0; open(F, '<', q[{{settings}}]); my $l = <F>; close F; print "reads $l\n"; close $s if $l eq 'broken'; }
                my $r = ''; vec($r, fileno($s) // next, 1) = 1;
                if (select($r, undef, undef, 0.05) > 0) { my $c = $s->accept; close $c if $c }
            }
            """
        );
        await sentry.Wrap("gate", "--proof", $"tcp:127.0.0.1:{port},within=1s", "--start", "--", gate);
        var pid = (await sentry.Show("gate")).GetProperty("pid").GetInt32();

        var unknown = await sentry.Calm("reload", "gate");
        Assert.Equal(1, unknown.Exit);
        Assert.Contains("calm adjust gate --reload HUP", unknown.Error, StringComparison.Ordinal);
        await sentry.Ok("adjust", "gate", "--reload", "SIGHUP");
        await File.WriteAllTextAsync(settings, "open");
        Assert.Contains(
            "Nothing was done.",
            (await sentry.Ok("reload", "gate", "--dry")).Output,
            StringComparison.Ordinal
        );
        var told = await sentry.Ok("reload", "gate");
        Assert.Contains("HUP was sent", told.Output, StringComparison.Ordinal);
        Assert.Contains($"After that: 127.0.0.1:{port} accepts connections.", told.Output, StringComparison.Ordinal);
        Assert.Equal("reads open\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("gate")));
        Assert.Equal(pid, (await sentry.Show("gate")).GetProperty("pid").GetInt32());
        Assert.Contains(
            "told to read its settings anew: HUP was sent",
            (await sentry.Ok("logbook", "gate")).Output,
            StringComparison.Ordinal
        );

        // Settings that it cannot serve by are noticed.
        await File.WriteAllTextAsync(settings, "broken");
        var broken = await sentry.Calm("reload", "gate");
        Assert.Equal(1, broken.Exit);
        Assert.Contains("nothing accepts connections", broken.Error, StringComparison.Ordinal);
        await sentry.Ok("stop", "gate");
        Assert.Equal(1, (await sentry.Calm("reload", "gate")).Exit);
    }

    [Fact]
    public async Task A_port_is_watched_though_nobody_asked_for_it_and_a_watch_can_be_paused()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        var closes = Path.Combine(sentry.Places.Root, "close");
        var relay = sentry.Script(
            "relay",
            $$"""
            #!/usr/bin/perl
            use IO::Socket::INET;
            my $s = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => {{port}}, Listen => 99, ReuseAddr => 1) or die;
            while (!-e q[{{closes}}]) { select(undef, undef, undef, 0.02) }
            close $s;
            sleep 600;
            """
        );
        await sentry.Wrap("relay", "--proof", $"tcp:127.0.0.1:{port}", "--start", "--", relay);
        var watch = (await sentry.Show("relay"))
            .GetProperty("watches")
            .EnumerateArray()
            .First(one => one.GetProperty("implied").GetBoolean());
        Assert.Contains($"127.0.0.1:{port}", watch.GetProperty("what").GetString(), StringComparison.Ordinal);
        Assert.Equal("tell", watch.GetProperty("follows").GetString());

        // A watch of one's own on the same port takes its place; this one looks more often.
        await sentry.Ok("adjust", "relay", "--watch", $"tcp:127.0.0.1:{port},beat=100ms,patience=2,follows=tell");
        Assert.Single(Watches(await sentry.Show("relay")).Split("accepts connections")[1..]);
        await File.WriteAllTextAsync(closes, "");
        var poor = await sentry.Until("relay", view => view.GetProperty("health").GetString() == "poor");
        Assert.Equal(("running", 1), (State(poor), poor.GetProperty("run").GetInt32()));
        Assert.Contains("nothing accepts", poor.GetProperty("health-why").GetString(), StringComparison.Ordinal);

        // Paused for a time, nothing is done about it; and that ends by itself, over a restart of the sentry, too.
        await sentry.Ok("watches", "relay", "--pause", "2s");
        Assert.Contains("Its watches are paused until", (await sentry.Ok("list")).Output, StringComparison.Ordinal);
        Assert.Equal("unknown", (await sentry.Show("relay")).GetProperty("health").GetString());
        await sentry.KillServer();
        await sentry.Serve();
        await sentry.Until("relay", view => view.GetProperty("health").GetString() == "poor");
        Assert.Contains(
            "Its watches count again.",
            (await sentry.Ok("logbook", "relay")).Output,
            StringComparison.Ordinal
        );

        // One key of the proof looks at the start only.
        await sentry.Ok("adjust", "relay", "--unset", "watch", "--proof", $"tcp:127.0.0.1:{port},looked-at=start");
        Assert.DoesNotContain("accepts connections", Watches(await sentry.Show("relay")), StringComparison.Ordinal);

        static string Watches(System.Text.Json.JsonElement service) =>
            string.Join(
                '\n',
                service.GetProperty("watches").EnumerateArray().Select(one => one.GetProperty("what").GetString())
            );
    }

    [Fact]
    public async Task Workers_that_the_kernel_ends_at_the_limit_are_told_though_the_main_one_lives()
    {
        await using var sentry = await Sentry.Start();
        var crew = sentry.Script(
            "crew",
            "#!/usr/bin/perl\nif (!fork) { sleep 1; my $n = 200; my $all = 'x' x ($n << 20); sleep 600 }\nsleep 600;\n"
        );
        await sentry.Wrap(
            "crew",
            "--memory",
            "64 MiB",
            "--watch",
            "ceiling-within:1min,beat=100ms",
            "--proof",
            "up-for:10ms",
            "--",
            crew
        );
        if ((await sentry.Calm("check", "crew")).All.Contains("limit-not-possible", StringComparison.Ordinal))
            Assert.Skip("this host holds nothing to a limit for memory");
        await sentry.Ok("start", "crew");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "crew")).Output.Contains(
                "the kernel has ended 1 of its processes",
                StringComparison.Ordinal
            )
        );
        Assert.Equal(1, (await sentry.Show("crew")).GetProperty("run").GetInt32());
    }

    [Fact]
    public async Task What_failed_to_start_shows_its_last_words_and_what_never_began_shows_none_of_another_run()
    {
        await using var sentry = await Sentry.Start();
        var fails = sentry.Script(
            "fails",
            "#!/bin/sh\nfor i in $(seq 100); do echo line $i; done\necho the reason\nexit 3\n"
        );
        await sentry.Wrap("fails", "--recover", "never", "--proof", "output:^ready$", "--", fails);
        var failed = await sentry.Calm("start", "fails");
        Assert.Equal(1, failed.Exit);
        Assert.Contains("the reason", failed.Output, StringComparison.Ordinal);
        Assert.DoesNotContain("line 1\n", failed.Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_leaves_its_work_to_the_background_is_told_what_it_is()
    {
        await using var sentry = await Sentry.Start();
        var away = sentry.Script("away", "#!/bin/sh\nsetsid sleep 600 &\nexit 0\n");
        await sentry.Wrap("away", "--proof", "up-for:3s", "--", away);
        var said = await sentry.Calm("start", "away");
        Assert.Contains("it left processes behind", said.All, StringComparison.Ordinal);
        Assert.Contains("--kind detaches", said.All, StringComparison.Ordinal);
        Assert.Empty(sentry.Processes("away"));
    }

    [Fact]
    public async Task A_need_that_will_not_come_by_itself_is_said_at_once()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("store", "--at", "never", "--", "/bin/sleep", "600");
        await sentry.Wrap("ledger", "--need", "service:store", "--", "/bin/sleep", "600");
        await sentry.Wrap("board", "--need", "service:ledger", "--", "/bin/sleep", "600");
        var clock = Stopwatch.StartNew();
        var ledger = await sentry.Calm("start", "ledger");
        Assert.Equal(1, ledger.Exit);
        Assert.Contains(
            "it waits for store, which will not be ready by itself: starting it is disabled",
            ledger.Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "it waits for ledger, which will not be ready by itself: it waits for store: starting it is disabled",
            (await sentry.Calm("start", "board")).Error,
            StringComparison.Ordinal
        );
        // The limit of a need is five minutes, and what is waited for here is a look at others.
        Assert.True(clock.Elapsed < TimeSpan.FromMinutes(2));
        await sentry.Ok("adjust", "store", "--at", "request");
        await sentry.Ok("start", "store");
        await sentry.Until("board", view => State(view) == "running");
    }

    [Fact]
    public async Task Without_anybody_to_read_it_the_client_does_what_it_was_asked_and_ends()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide",
            "--proof",
            "up-for:10ms",
            "--start",
            "--",
            sentry.Script("tide", "#!/bin/sh\necho high\nexec sleep 600\n")
        );
        var calm = $"{sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()}";
        var (closed, full, follow) = (
            await Shell($"{calm} list >&-"),
            await Shell($"{calm} restart tide >/dev/full"),
            await Shell($"{calm} output tide --follow | head -1")
        );
        Assert.Equal(0, closed.Exit);
        // That nobody would be told of anything is all there is to say.
        Assert.DoesNotContain("written", closed.Error, StringComparison.Ordinal);
        Assert.Equal(1, full.Exit);
        Assert.Contains("What came of it could not be written", full.Error, StringComparison.Ordinal);
        Assert.Equal(2, (await sentry.Show("tide")).GetProperty("run").GetInt32()); // what was asked was done
        Assert.Equal((0, "high\n"), (follow.Exit, follow.Output));

        // On a narrow terminal nothing is cut, no line is longer than it is wide, and its keypad is left as it is.
        var narrow = await Shell($"script -qec \"stty cols 50; {calm} list\" /dev/null");
        Assert.DoesNotContain("\u001b[?1h", narrow.Output, StringComparison.Ordinal);
        var lines = narrow.Output.ReplaceLineEndings("\n").Split('\n');
        Assert.All(lines, line => Assert.InRange(line.Length, 0, 50));
        Assert.Contains(
            (await sentry.Show("tide")).GetProperty("why").GetString()!,
            string.Join(' ', lines.Select(line => line.Trim())),
            StringComparison.Ordinal
        );

        static async Task<Said> Shell(string line)
        {
            using var shell = Process.Start(
                new ProcessStartInfo("/bin/sh", ["-c", line])
                {
                    RedirectStandardOutput = true,
                    RedirectStandardError = true,
                }
            )!;
            var (output, error) = (shell.StandardOutput.ReadToEndAsync(), shell.StandardError.ReadToEndAsync());
            await shell.WaitForExitAsync().InTime();
            return new(shell.ExitCode, await output, await error);
        }
    }

    [Fact]
    public async Task Very_many_arguments_are_taken_and_folded_where_they_are_shown()
    {
        await using var sentry = await Sentry.Start();
        string[] many =
        [
            sentry.Script("counts", "#!/bin/sh\necho \"got $#, the last is ${20000}\"\nsleep 600\n"),
            .. Enumerable.Range(1, 20_000).Select(i => $"{i}"),
        ];
        foreach (
            var said in (Said[])
                [
                    await sentry.Wrap("counts", ["--dry", "--", .. many]),
                    await sentry.Wrap("counts", ["--proof", "output:^got", "--", .. many]),
                    await sentry.Ok("check", "counts"),
                    await sentry.Ok("start", "counts", "--dry"),
                    await sentry.Ok("start", "counts"),
                    await sentry.Ok("show", "counts"),
                ]
        )
        {
            Assert.Contains("more words (--json has them all)", said.Output, StringComparison.Ordinal);
            Assert.All(said.Output.Split('\n'), line => Assert.InRange(line.Length, 0, 1000));
        }

        Assert.Equal("got 20000, the last is 20000\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("counts")));
        Assert.Equal(20_001, (await sentry.Show("counts")).GetProperty("command").GetArrayLength());
    }

    [Fact]
    public async Task Low_ports_are_a_right_of_their_own()
    {
        Assert.SkipUnless(Environment.UserName == "root", "only root gives rights");
        await using var sentry = await Sentry.Start();
        const int port = 893;
        var bell = sentry.Script(
            "bell",
            $"#!/usr/bin/perl\nuse IO::Socket::INET;\nmy $s = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => {port}, "
                + "Listen => 9, ReuseAddr => 1) or die \"no port: $!\";\nwhile (my $c = $s->accept) { close $c }\n"
        );
        await sentry.Wrap("bell", "--recover", "never", "--proof", $"tcp:127.0.0.1:{port}", "--", bell);
        var check = (await sentry.Calm("check", "bell")).All;
        Assert.Contains("low-port", check, StringComparison.Ordinal);
        Assert.Contains("calm adjust bell --right low-ports", check, StringComparison.Ordinal);
        Assert.Contains("Permission denied", (await sentry.Calm("start", "bell")).All, StringComparison.Ordinal);

        await sentry.Ok("adjust", "bell", "--right", "low-ports");
        await sentry.Ok("start", "bell");
        var right = (await sentry.Show("bell"))
            .GetProperty("in-force")
            .EnumerateArray()
            .Single(one => one.GetProperty("key").GetString() == "identity.rights");
        Assert.Equal("low-ports", right.GetProperty("kernel").GetString());
        // That one, and no other.
        var status = await File.ReadAllTextAsync(
            $"/proc/{(await sentry.Show("bell")).GetProperty("pid").GetInt32()}/status"
        );
        foreach (var set in (string[])["CapInh", "CapPrm", "CapEff", "CapAmb"])
            Assert.Matches($@"{set}:\s+0000000000000400\n", status);
        Assert.Matches(@"NoNewPrivs:\s+1\n", status);
    }

    [Fact]
    public async Task Whoever_became_root_is_named_by_the_login()
    {
        Assert.SkipUnless(
            Environment.UserName == "root" && File.Exists("/proc/self/loginuid"),
            "only root sets who logged in, and only where the kernel keeps it"
        );
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        using var sudo = Process.Start(
            new ProcessStartInfo(
                "/bin/sh",
                [
                    "-c",
                    $"echo {uint.MaxValue} >/proc/self/loginuid; echo $(id -u nobody) >/proc/self/loginuid || exit 9; "
                        + $"exec {sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()} start tide >/dev/null",
                ]
            )
        )!;
        await sudo.WaitForExitAsync().InTime();
        Assert.SkipWhen(sudo.ExitCode == 9, "the kernel lets nobody set who logged in here");
        Assert.Contains("nobody as root", (await sentry.Ok("logbook", "tide")).Output, StringComparison.Ordinal);
    }
}
