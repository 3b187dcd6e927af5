using System.Text.Json;
using System.Text.Json.Nodes;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Kinds of programs, their interpreters, and that every value reaches them as it was given.</summary>
[Needs("memcached", "perl")]
public class KindTests
{
    private const string Daemon =
        "#!/bin/sh\n(setsid sh -c 'echo $$ >\"$CALM_STATE/relay.pid\"; echo up; trap \"echo over; exit 0\" TERM; "
        + "while :; do sleep 0.05; done' &)\nexit 0\n";

    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_program_that_detaches_is_known_by_what_it_leaves(bool byPidFile)
    {
        await using var sentry = await Sentry.Start();
        var pidFile = Path.Combine(sentry.Places.StateOf("relay"), "relay.pid");
        Directory.CreateDirectory(sentry.Places.StateOf("relay"), (UnixFileMode)0b111_111_111);
        File.SetUnixFileMode(sentry.Places.StateOf("relay"), (UnixFileMode)0b111_111_111);
        await sentry.Wrap(
            "relay",
            [
                "--kind",
                "detaches",
                .. byPidFile ? new[] { "--pid-file", pidFile } : [],
                "--pause",
                "10ms",
                "--start",
                "--",
                sentry.Script("relay", Daemon),
            ]
        );
        var pid = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        Assert.Equal($"{pid}", (await File.ReadAllTextAsync(pidFile)).Trim());
        await sentry.KillServer();
        await sentry.Serve();
        Assert.Equal(pid, (await sentry.Show("relay")).GetProperty("pid").GetInt32());
        Sentry.Kill(pid);
        var back = await sentry.Until(
            "relay",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == 2
        );
        Assert.Contains(
            "run 1 was killed by signal KILL",
            back.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        Assert.Contains("code 0", (await sentry.Ok("stop", "relay")).Output, StringComparison.Ordinal); // TERM reached the real process
        Assert.EndsWith(
            "over\n",
            await File.ReadAllTextAsync(sentry.Places.OutputOf("relay")),
            StringComparison.Ordinal
        );
    }

    /// <summary>As for its new program files: another main process, named in the pid file before or after the one of before ends.</summary>
    [Theory]
    [InlineData("new", "$next", 1)]
    [InlineData("late", "$next", 1)]
    // What the pid file names must be a living process of its own tree.
    [InlineData("new", "1", 2)]
    [InlineData("new", "SOMEBODY", 2)]
    public async Task A_daemon_that_hands_over_to_another_process_stays_the_same_run(string when, string named, int run)
    {
        await using var sentry = await Sentry.Start();
        using var somebody = Sentry.Began("root", "/bin/sleep", "688");
        Directory.CreateDirectory(sentry.Places.StateOf("relay"), (UnixFileMode)0b111_111_111);
        File.SetUnixFileMode(sentry.Places.StateOf("relay"), (UnixFileMode)0b111_111_111);
        var script = sentry.Script(
            "relay.pl",
            $$"""
            use POSIX; $f = "$ENV{CALM_STATE}/relay.pid"; exit if fork; setsid;
            sub pid { open F, ">$f"; print F "$_[0]\n"; close F } pid $$; $| = 1; print "up\n";
            $SIG{USR1} = sub {
              $old = $$; $next = fork;
              if ($next) { pid {{named.Replace(
                "SOMEBODY",
                $"{somebody.Id}",
                StringComparison.Ordinal
            )}} if "{{when}}" eq "new"; exit 0 }
              if ("{{when}}" eq "late") { select undef, undef, undef, 0.4; pid $$ }
              print "took over\n" };
            $SIG{TERM} = sub { print "over\n"; exit 0 };
            select undef, undef, undef, 0.05 while 1;
            """
        );
        await sentry.Wrap(
            "relay",
            "--kind",
            "detaches",
            "--pid-file",
            PidFile(sentry),
            "--recover",
            "any-end",
            "--pause",
            "10ms",
            "--start",
            "--",
            "/usr/bin/perl",
            script
        );
        var before = (await sentry.Show("relay")).GetProperty("pid").GetInt32();
        Sentry.Kill(before, "USR1");
        var after = await sentry.Until(
            "relay",
            view =>
                view.GetProperty("state").GetString() == "running"
                && view.GetProperty("run").GetInt32() == run
                && view.GetProperty("pid").GetInt32() is var pid
                && pid != before
        );
        var next = after.GetProperty("pid").GetInt32();
        Assert.True(Sentry.Lives(next));
        Assert.True(Sentry.Lives(somebody.Id));
        Assert.Equal(
            run == 1,
            (await sentry.Ok("logbook", "relay")).Output.Contains(
                $"by its pid file pid {next} is the program now",
                StringComparison.Ordinal
            )
        );
        // And so it does under another server, and a stop reaches it.
        await sentry.KillServer();
        await sentry.Serve();
        Assert.Equal(
            next,
            (await sentry.Until("relay", view => view.GetProperty("state").GetString() == "running"))
                .GetProperty("pid")
                .GetInt32()
        );
        await sentry.Ok("stop", "relay");
        Assert.False(Sentry.Lives(next));
        Assert.EndsWith(
            "over\n",
            await File.ReadAllTextAsync(sentry.Places.OutputOf("relay")),
            StringComparison.Ordinal
        );
        await Sentry.End(somebody);
    }

    /// <summary>As database servers write it: the process id, and seven lines of other things.</summary>
    [Fact]
    public async Task A_pid_file_may_say_more_than_the_process_id()
    {
        await using var sentry = await Sentry.Start();
        var pid = await Relay(
            sentry,
            "echo $$ >$F; printf '/srv/relay\n1764\n5432\n/run/relay\n127.0.0.1\n 7 9\nready\n' >>$F"
        );
        Assert.StartsWith(
            $"{pid}\n/srv/relay\n",
            await File.ReadAllTextAsync(PidFile(sentry)),
            StringComparison.Ordinal
        );
        Assert.Contains("code 0", (await sentry.Ok("stop", "relay")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task What_its_pid_file_does_not_tell_is_named_and_all_of_it_is_asked_to_end()
    {
        await using var sentry = await Sentry.Start();
        Assert.Equal(0, await Relay(sentry, "echo relay >$F"));
        await sentry.Until("relay", view => view.GetProperty("state").GetString() is "held" or "stopped");
        var logbook = (await sentry.Ok("logbook", "relay", "--last", "100")).Output;
        Assert.Contains($"could be identified as the program: ", logbook, StringComparison.Ordinal);
        Assert.Contains(
            $"the first line of its pid file {PidFile(sentry)} is 'relay', and no process id",
            logbook,
            StringComparison.Ordinal
        );
        // And it was: it says so itself.
        Assert.Contains(
            "over\n",
            await File.ReadAllTextAsync(sentry.Places.OutputOf("relay")),
            StringComparison.Ordinal
        );
    }

    private static string PidFile(Sentry sentry) => Path.Combine(sentry.Places.StateOf("relay"), "relay.pid");

    /// <summary>Wraps and starts a daemon that writes a pid file, F, in this way.</summary>
    /// <returns>Its process id; 0: it was not found.</returns>
    private static async Task<int> Relay(Sentry sentry, string write)
    {
        Directory.CreateDirectory(sentry.Places.StateOf("relay"), (UnixFileMode)0b111_111_111);
        File.SetUnixFileMode(sentry.Places.StateOf("relay"), (UnixFileMode)0b111_111_111);
        var daemon = sentry.Script(
            "relay-daemon",
            $"#!/bin/sh\nF=$CALM_STATE/relay.pid\n{write}\necho up\ntrap 'echo over; exit 0' TERM\nwhile :; do sleep 0.05; done\n"
        );
        await sentry.Wrap(
            "relay",
            "--kind",
            "detaches",
            "--pid-file",
            PidFile(sentry),
            "--recover",
            "never",
            "--",
            sentry.Script("relay", $"#!/bin/sh\n(setsid {daemon.Quoted()} &)\nexit 0\n")
        );
        _ = await sentry.Calm("start", "relay");
        return (await sentry.Show("relay")).TryGetProperty("pid", out var pid) && pid.ValueKind == JsonValueKind.Number
            ? pid.GetInt32()
            : 0;
    }

    [Fact]
    public async Task A_real_daemon_that_detaches()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "tide-store",
            "--kind",
            "detaches",
            "--start",
            "--",
            "/usr/bin/memcached",
            "-d",
            "-l",
            "127.0.0.1",
            "-p",
            $"{port}"
        );
        Assert.StartsWith("VERSION", await Sentry.Talk(port, "version"), StringComparison.Ordinal);
        await sentry.Ok("stop", "tide-store");
        Assert.Empty(sentry.Processes("tide-store"));
    }

    [Fact]
    public async Task A_program_that_toggles_is_on_until_its_stop_command()
    {
        await using var sentry = await Sentry.Start();
        var state = sentry.Places.StateOf("lamps");
        var (on, off) = (
            sentry.Script("on", "#!/bin/sh\necho on >>\"$CALM_STATE/lamps\"\n"),
            sentry.Script("off", "#!/bin/sh\necho \"off $1\" >>\"$CALM_STATE/lamps\"\nexit $2\n")
        );
        await sentry.Wrap(
            "lamps",
            "--kind",
            "toggles",
            "--off-command",
            off,
            "--off-command",
            "quay 2",
            "--off-command",
            "0",
            "--",
            on
        );
        Assert.Contains("switched on", (await sentry.Ok("start", "lamps")).Output, StringComparison.Ordinal);
        await sentry.KillServer();
        await sentry.Serve();
        Assert.Equal("running", (await sentry.Show("lamps")).GetProperty("state").GetString());
        Assert.Contains(
            "decides how that run is stopped",
            (await sentry.Calm("adjust", "lamps", "--kind", "stays", "--unset", "program.off")).Error,
            StringComparison.Ordinal
        );
        await sentry.Ok("restart", "lamps");
        await sentry.Ok("stop", "lamps");
        Assert.Equal("on\noff quay 2\non\noff quay 2\n", await File.ReadAllTextAsync(Path.Combine(state, "lamps")));
    }

    [Fact]
    public async Task A_script_without_execute_right_gets_its_interpreter_pinned()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tides",
            "--start",
            "--",
            sentry.Script("tides.pl", "$| = 1; print \"high water @ARGV\\n\"; sleep 600;\n", executable: false),
            "at",
            "noon"
        );
        Assert.Equal(
            "/usr/bin/perl",
            (await sentry.Show("tides"))
                .GetProperty("definition")
                .GetProperty("program")
                .GetProperty("with")
                .GetString()
        );
        Assert.Equal("high water at noon\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("tides")));
        // Its own first line counts more than its kind, and a virtual environment beside it more than both.
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "app", ".venv", "bin")).FullName;
        await File.WriteAllTextAsync(Path.Combine(place, "..", "pyvenv.cfg"), "");
        File.Copy("/bin/true", Path.Combine(place, "python"));
        var script = sentry.Script("app/tides.py", "#!/usr/bin/perl\n", executable: false);
        Assert.Equal("/usr/bin/perl", await Chosen(sentry, script));
        await File.WriteAllTextAsync(script, "print('high water')\n");
        Assert.Equal(Path.Combine(place, "python"), await Chosen(sentry, script));
    }

    private static async Task<string?> Chosen(Sentry sentry, string script)
    {
        var view = await sentry.Call(
            HttpMethod.Post,
            "check",
            new JsonObject
            {
                ["name"] = "x",
                ["program"] = new JsonObject { ["path"] = script },
                ["identity"] = new JsonObject { ["account"] = "nobody" },
            }.ToJsonString()
        );
        return view.GetProperty("interpreters")
            .EnumerateArray()
            .Single(one => one.GetProperty("chosen").GetBoolean())
            .GetProperty("path")
            .GetString();
    }

    private static readonly string[] Awkward =
    [
        "",
        " ",
        "two words",
        "it's",
        "say \"so\"",
        "a\nb\n",
        "\ttab\\n",
        "$HOME `x` *",
        "Ærø-Gråø ⛴ 渡し船",
        "--",
        "-x",
        "#no comment",
        "{a: b}",
        "null",
        "~",
        "0027",
        "yes",
    ];

    [Theory]
    [InlineData("flags")]
    [InlineData("json")]
    [InlineData("yaml")]
    [InlineData("yaml-again")]
    public async Task Every_value_passes_through_exactly(string way)
    {
        await using var sentry = await Sentry.Start();
        var place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "quay 2 – 'Gråø'")).FullName;
        var program = sentry.Script(
            "quay 2 – 'Gråø'/tells \"all\".sh",
            "#!/bin/sh\npwd\nprintf '<%s>' \"$@\"\nprintf '[%s]' \"$A\" \"$B\"\necho\nexec sleep 600\n"
        );
        var (a, b, title) = ("x\ny = 'z' \"ø\" ", "", "Færge: \"nr. 2\" # 'ikke' {nok}");
        if (way == "flags")
        {
            await sentry.Wrap(
                "ferry",
                [
                    "--title",
                    title,
                    "--directory",
                    place,
                    "--environment",
                    $"A={a}",
                    "--environment",
                    $"B={b}",
                    "--notes",
                    a,
                    "--",
                    program,
                    .. Awkward,
                ]
            );
        }
        else
        {
            var definition = new JsonObject
            {
                ["name"] = "ferry",
                ["title"] = title,
                ["notes"] = a,
                ["program"] = new JsonObject
                {
                    ["path"] = program,
                    ["arguments"] = new JsonArray([.. Awkward.Select(word => (JsonNode)word)]),
                    ["directory"] = place,
                    ["environment"] = new JsonObject { ["A"] = a, ["B"] = b },
                },
                ["identity"] = new JsonObject { ["account"] = Sentry.Account },
            };
            // YAML contains JSON: the same text is taken as either.
            if (way == "json")
                Assert.True(
                    (await sentry.Call(HttpMethod.Post, "services", definition.ToJsonString())).TryGetProperty(
                        "came-true",
                        out _
                    )
                );
            else
                await FromFile(definition.ToJsonString());
            if (way == "yaml-again")
            {
                // What the sentry itself writes as a file gives the same service again.
                using var client = sentry.Http();
                var file = await client.GetStringAsync("http://sentry/api/services/ferry/definition");
                await sentry.Ok("unwrap", "ferry", "--yes");
                await FromFile(file);
            }
        }

        async Task FromFile(string text)
        {
            var file = Path.Combine(sentry.Places.Root, "ferry.yaml");
            await File.WriteAllTextAsync(file, text);
            await sentry.Ok("wrap", "--from", file);
        }

        await sentry.Ok("start", "ferry");
        Assert.Equal(
            $"{place}\n{string.Concat(Awkward.Select(word => $"<{word}>"))}[{a}][{b}]\n",
            await File.ReadAllTextAsync(sentry.Places.OutputOf("ferry"))
        );
        var shown = (await sentry.Show("ferry")).GetProperty("definition");
        Assert.Equal((title, a), (shown.GetProperty("title").GetString(), shown.GetProperty("notes").GetString()));
        Assert.Equal(
            Awkward,
            shown.GetProperty("program").GetProperty("arguments").EnumerateArray().Select(word => word.GetString()!)
        );
    }

    [Fact]
    public async Task Mistakes_in_a_file_are_named_with_its_name_line_and_column()
    {
        await using var sentry = await Sentry.Start();
        var file = Path.Combine(sentry.Places.Root, "ferry.yaml");
        await File.WriteAllTextAsync(
            file,
            "name: ferry\nprogram:\n  path: /bin/sleep\n  enviroment: { A: b }\nresources:\n  memory: "
                + "plenty\nprogramme: 1\n"
        );
        var refused = await sentry.Calm("wrap", "--from", file);
        Assert.Equal(2, refused.Exit);
        Assert.Contains(
            $"{file}: line 4, column 15: program.enviroment: not a key of this place",
            refused.Error,
            StringComparison.Ordinal
        );
        Assert.Contains("(did you mean environment?)", refused.Error, StringComparison.Ordinal);
        Assert.Contains(
            $"{file}: line 6, column 11: resources.memory: 'plenty'; allowed: an amount such as 64 MiB",
            refused.Error,
            StringComparison.Ordinal
        );
        await File.WriteAllTextAsync(file, "name: ferry\nprogram: {\n");
        Assert.Contains(
            $"{file}: line 3, column 1: definition: no YAML",
            (await sentry.Calm("check", file)).Output,
            StringComparison.Ordinal
        );
        await File.WriteAllTextAsync(file, "name: a\n---\nname: b\n");
        Assert.Contains(
            "line 3, column 1: definition: more than one document; allowed: one definition a file",
            (await sentry.Calm("check", file)).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_sibling_is_copied_but_for_what_is_said()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("gate", "#!/bin/sh\necho \"$GATE on $PIER\"\nexec sleep 600\n");
        await sentry.Wrap(
            "gate-1",
            "--title",
            "Gate 1",
            "--memory",
            "64MiB",
            "--environment",
            "GATE=1",
            "--environment",
            "PIER=north",
            "--",
            program
        );
        await sentry.Ok("wrap", "gate-2", "--like", "gate-1", "--environment", "GATE=2", "--start");
        Assert.Equal("2 on north\n", await File.ReadAllTextAsync(sentry.Places.OutputOf("gate-2")));
        var shown = (await sentry.Show("gate-2")).GetProperty("definition");
        Assert.Equal(
            ("gate-2", "64 MiB"),
            (shown.GetProperty("title").GetString(), shown.GetProperty("resources").GetProperty("memory").GetString())
        );
    }

    [Fact]
    public async Task The_command_and_the_file_that_are_shown_give_the_same_service_again()
    {
        await using var sentry = await Sentry.Start();
        var off = sentry.Script("off it.sh", "#!/bin/sh\n");
        foreach (
            var kind in new[]
            {
                new[]
                {
                    "--kind",
                    "detaches",
                    "--pid-file",
                    Path.Combine(sentry.Places.StateOf("board"), "board.pid"),
                    "--wind-down",
                    "INT 2s",
                    "--wind-down",
                    "TERM 1min",
                },
                ["--kind", "toggles", "--off-command", off, "--off-command", "all of it"],
            }
        )
        {
            var answer = (
                await sentry.Ok([
                    "wrap",
                    "Board",
                    "--account",
                    Sentry.Account,
                    "--title",
                    "The board's \"page\"",
                    "--notes",
                    "two\nlines",
                    "--directory",
                    sentry.Places.Root,
                    "--environment",
                    "A=b c",
                    "--environment",
                    "EMPTY=",
                    "--secret",
                    "ONE",
                    "--secret",
                    "TWO:file",
                    "--group",
                    "audio",
                    "--umask",
                    "0077",
                    "--more-rights",
                    "allowed",
                    "--priority",
                    "idle",
                    "--disk",
                    "high",
                    "--processors",
                    "0",
                    "--memory",
                    "200 MB",
                    "--cpu",
                    "33%",
                    "--open-files",
                    "99",
                    "--tree-size",
                    "9",
                    "--at",
                    "boot",
                    "--recover",
                    "any-end",
                    "--pause",
                    "7s",
                    "--hold-ends",
                    "0",
                    "--accept",
                    "file-unreadable",
                    "--json",
                    .. kind,
                    "--",
                    sentry.Script("board it.sh", "#!/bin/sh\n"),
                    "",
                    "--x",
                    "it's",
                ])
            ).Json;
            var shown = (await sentry.Show("board")).GetProperty("definition").ToString();
            var repeat = answer.GetProperty("repeat");
            await sentry.Ok("unwrap", "board", "--yes");
            await sentry.Ok([
                .. repeat.GetProperty("command").EnumerateArray().Select(word => word.GetString()!).Skip(1),
            ]);
            Assert.Equal(shown, (await sentry.Show("board")).GetProperty("definition").ToString());
            await sentry.Ok("unwrap", "board", "--yes");
            var file = Path.Combine(sentry.Places.Root, "board.yaml");
            await File.WriteAllTextAsync(file, repeat.GetProperty("file").GetString());
            await sentry.Ok("wrap", "--from", file);
            Assert.Equal(shown, (await sentry.Show("board")).GetProperty("definition").ToString());
            await sentry.Ok("unwrap", "board", "--yes");
        }
    }
}
