using System.Diagnostics;
using System.Text;
using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>The client as people use it: what comes true, and every way it can fail, with its exit code.</summary>
[Needs("perl")]
public class ClientTests(OneSentry one) : IClassFixture<OneSentry>
{
    [Fact]
    public async Task Registered_is_not_running_and_both_are_said()
    {
        await using var sentry = await Sentry.Start();
        var wrapped = await sentry.Wrap(
            "Fare ledger",
            "--at",
            "boot",
            "--",
            "/bin/sh",
            "-c",
            "echo books open; exec sleep 600"
        );
        Assert.Contains("Wrapped 'Fare ledger' as fare-ledger", wrapped.Output, StringComparison.Ordinal);
        Assert.Contains("registered, not running", wrapped.Output, StringComparison.Ordinal);
        var shown = await sentry.Show("Fare ledger");
        Assert.Equal("stopped", shown.GetProperty("state").GetString());
        foreach (var key in new[] { "name", "state", "pid", "run", "since", "health", "why" })
            Assert.True(shown.TryGetProperty(key, out _), key);

        var started = await sentry.Ok("start", "FARE LEDGER");
        Assert.Contains("books open", started.Output, StringComparison.Ordinal);
        Assert.Contains("sleep 600", started.Output, StringComparison.Ordinal);
        Assert.Contains(
            "was already running",
            (await sentry.Ok("start", "fare-ledger")).Output,
            StringComparison.Ordinal
        );

        var list = (await sentry.Ok("list", "--json")).Json;
        Assert.Equal("fare-ledger", list[0].GetProperty("name").GetString());
        Assert.Equal("running", list[0].GetProperty("state").GetString());

        var restarted = await sentry.Ok("restart", "fare-ledger");
        Assert.Contains("run 2", restarted.Output, StringComparison.Ordinal);

        var directory = sentry.Places.RunOf(await sentry.Id("fare-ledger"));
        var unwrapped = await sentry.Ok("unwrap", "fare-ledger", "--yes");
        Assert.Contains(sentry.Places.OutputDirectoryOf("fare-ledger"), unwrapped.Output, StringComparison.Ordinal);
        Assert.Empty(sentry.Processes("fare-ledger"));
        Assert.Equal(4, (await sentry.Calm("show", "fare-ledger")).Exit);
        Assert.False(Directory.Exists(directory));
        Assert.True(File.Exists(sentry.Places.OutputOf("fare-ledger")));
        var by = (await sentry.Ok("logbook", "fare-ledger", "--json"))
            .Json.EnumerateArray()
            .Where(entry => entry.GetProperty("code").GetString() == "start-asked")
            .Select(entry => entry.GetProperty("by").GetString());
        Assert.All(by, who => Assert.Equal(Environment.UserName, who));
    }

    [Fact]
    public async Task A_mistake_is_named_by_its_name()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("ferry", "--", "/bin/sleep", "600");
        var (wide, latin) = (Path.Combine(sentry.Places.Root, "u.yaml"), Path.Combine(sentry.Places.Root, "l.yaml"));
        await File.WriteAllBytesAsync(wide, Encoding.Unicode.GetBytes("\ufeffname: ferry\n"));
        await File.WriteAllBytesAsync(latin, Encoding.Latin1.GetBytes("name: ferry\ntitle: Fähre\n"));
        foreach (
            var (said, command) in new (string, string[])[]
            {
                ("resources.memroy: not a key of this place", ["adjust", "ferry", "--unset", "resources.memroy"]),
                ("(did you mean memory?)", ["adjust", "ferry", "--unset", "resources.memroy"]),
                ("rsrc: not a key of this place", ["adjust", "ferry", "--unset", "rsrc"]),
                (
                    "name: taken away; allowed: another name, which 'calm rename' gives",
                    ["adjust", "ferry", "--unset", "name"]
                ),
                (
                    "resources.memory is given and taken away at once",
                    ["adjust", "ferry", "--memory", "100MiB", "--unset", "resources.memory"]
                ),
                ("(did you mean boot?)", ["adjust", "ferry", "--at", "automatic"]),
                (
                    "rhythm[0].run: 'daily at 25:00'; allowed: times from 00:00 to 23:59, each with two digits: there is no 25:00\n    →",
                    ["wrap", "tide-pull", "--kind", "periodic", "--rhythm", "run:daily at 25:00", "--", "/bin/true"]
                ),
                (
                    "'once at 2020-01-01 06:00' has no moment that is still to come",
                    [
                        "wrap",
                        "tide-pull",
                        "--kind",
                        "periodic",
                        "--rhythm",
                        "run:once at 2020-01-01 06:00",
                        "--",
                        "/bin/true",
                    ]
                ),
                ("is not UTF-8: it looks like UTF-16.", ["check", wide]),
                ("is not UTF-8, at line 2: it looks like Latin-1", ["wrap", "--from", latin]),
                ("'calm rename' needs NAME", ["rename"]),
                ("'calm account' needs one of: ", ["account"]),
                ("--last needs a value", ["output", "ferry", "--last"]),
                ("--last takes one value, and was given 2", ["output", "ferry", "--last", "3", "--last", "4"]),
                ("no command status. It is 'calm list' for all services", ["status"]),
                ("no command logs. It is 'calm output NAME'", ["logs"]),
                (
                    $"The root {sentry.Places.Root} is set, and 'host install' is for the whole machine",
                    ["host", "install"]
                ),
                ("is set, and 'host remove' is for the whole machine", ["host", "remove"]),
                (
                    "There is no script at /srv/nosuch.py.",
                    ["check", "--account", Sentry.Account, "--", "perl", "/srv/nosuch.py"]
                ),
                (
                    "The script bell.pl is looked for in the service's own directory, and /srv/bell.pl is not there.",
                    ["check", "--account", Sentry.Account, "--directory", "/srv", "--", "perl", "-w", "bell.pl"]
                ),
            }
        )
        {
            var answer = await sentry.Calm(command);
            Assert.NotEqual(0, answer.Exit);
            Assert.Contains(said, answer.Told, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task What_was_adjusted_is_started_with_it()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("ferry", "--", "/bin/sleep", "600");
        var said = await sentry.Ok("adjust", "ferry", "--title", "Night ferry", "--start");
        Assert.Contains("title", said.Output, StringComparison.Ordinal);
        Assert.Equal("running", (await sentry.Show("ferry")).GetProperty("state").GetString());
        Assert.Contains(
            "was already running",
            (await sentry.Ok("adjust", "ferry", "--title", "Night ferry", "--start")).Output,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task A_script_behind_its_interpreter_is_meant_from_where_one_is()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("bell.pl", "print qq(ding\\n);\n", executable: false);
        var start = new ProcessStartInfo(
            sentry.Program("calm"),
            ["--root", sentry.Places.Root, "check", "--account", Sentry.Account, "--", "perl", "-w", "bell.pl", "x.pl"]
        )
        {
            WorkingDirectory = Path.GetDirectoryName(script),
            RedirectStandardOutput = true,
        };
        using var check = Process.Start(start)!;
        var said = await check.StandardOutput.ReadToEndAsync();
        await check.WaitForExitAsync();
        Assert.Contains("/bell.pl' x.pl", said, StringComparison.Ordinal);
        Assert.Equal(0, check.ExitCode);
    }

    [Fact]
    public async Task Paths_with_spaces_and_any_text_pass_through_exactly()
    {
        await using var sentry = await Sentry.Start();
        string[] arguments =
        [
            "two words",
            "",
            "quote'\"\\",
            "--last",
            "--",
            "tabs\tand\nlines",
            "Ærø № 3 — ⛴ 潮",
            "$HOME",
            "@file",
            "*",
        ];
        var directory = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "quay office")).FullName;
        File.SetUnixFileMode(directory, (UnixFileMode)0b111_101_101);
        var script = sentry.Script(
            "quay office/print arguments",
            "#!/bin/sh\nfor a; do printf '%s\\0' \"$a\"; done\nprintf '%s\\0' \"$PWD\" \"$GREETING\" "
                + "\"${CALM_ROOT-none}\" \"$HOME\"\nexec sleep 600\n"
        );
        await sentry.Wrap(
            "printer",
            ["--directory", directory, "--environment", "GREETING=god dag = ⛴", "--start", "--", script, .. arguments]
        );
        var output = await File.ReadAllTextAsync(sentry.Places.OutputOf("printer"));
        var parts = output.Split('\0')[..^1];
        Assert.Equal(arguments, parts[..^4]);
        Assert.Equal([directory, "god dag = ⛴", "none"], parts[^4..^1]);
    }

    [Fact]
    public async Task What_cannot_run_is_refused_at_the_wrap_with_a_clear_word_and_nothing_half_made()
    {
        await using var sentry = await Sentry.Start();
        var notExecutable = sentry.Script("plain", "no script\n", executable: false);
        var noInterpreter = sentry.Script("tide.py", "#!/opt/skerry/python9\n");
        var windowsEnds = sentry.Script("berth.sh", "#!/bin/sh\r\necho hello\r\n");
        foreach (
            var (program, words) in new[]
            {
                ("/srv/skerry/missing", "There is no program at /srv/skerry/missing"),
                (sentry.Places.Root, "is a directory, not a program"),
                (notExecutable, "no execute right"),
                (noInterpreter, "asks for the interpreter /opt/skerry/python9"),
                (windowsEnds, "Windows line end"),
                ("no-such-program-anywhere", "in any folder of your PATH"),
            }
        )
        {
            var said = await sentry.Calm("wrap", "trial", "--account", Sentry.Account, "--", program);
            Assert.Equal(1, said.Exit);
            Assert.Contains(words, said.Error, StringComparison.Ordinal);
        }

        Assert.Contains(
            "chmod +x",
            (await sentry.Calm("wrap", "trial", "--account", Sentry.Account, "--", notExecutable)).Error,
            StringComparison.Ordinal
        );
        Assert.Equal(0, (await sentry.Ok("list", "--json")).Json.GetArrayLength());
    }

    [Fact]
    public async Task What_breaks_later_is_told_at_the_start_step_by_step()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("counter", "#!/bin/sh\nexec sleep 600\n");
        var directory = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "work")).FullName;
        await sentry.Wrap("counter", "--directory", directory, "--", program);

        Directory.Delete(directory);
        await Refused("The directory", "is not there");
        Directory.CreateDirectory(directory);
        sentry.Script("counter", "#!/opt/skerry/gone\n");
        await Refused("asks for the interpreter /opt/skerry/gone, which is not there");
        sentry.Script("counter", "no script\n", executable: false);
        await Refused("no execute right");
        File.Delete(program);
        await Refused("There is no program at");
        sentry.Script("counter", "#!/bin/sh\necho the tide table is missing >&2\nexit 3\n");
        await Refused("exited with code 3", "the tide table is missing");
        await sentry.Ok("stop", "counter");
        Assert.Empty(sentry.Processes("counter"));

        async Task Refused(params string[] words)
        {
            var said = await sentry.Calm("start", "counter");
            Assert.Equal(1, said.Exit);
            foreach (var word in words)
                Assert.Contains(word, said.All, StringComparison.Ordinal);
        }
    }

    [Fact]
    public async Task Wrong_words_end_with_the_exit_code_of_their_kind()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("counter", "--", "/bin/sleep", "600");
        var taken = await sentry.Calm("wrap", "counter", "--account", Sentry.Account, "--", "/bin/true");
        Assert.Equal(
            (1, true),
            (taken.Exit, taken.Error.Contains("already; nothing was changed", StringComparison.Ordinal))
        );
        var unknown = await sentry.Calm("show", "countr");
        Assert.Equal(
            (4, true),
            (unknown.Exit, unknown.Error.Contains("did you mean 'counter'?", StringComparison.Ordinal))
        );
        foreach (var verb in new[] { "start", "stop", "restart", "unwrap", "output" })
            Assert.Equal(4, (await sentry.Calm(verb, "nobody-knows")).Exit);
        Assert.Equal(2, (await sentry.Calm("wrap", "trial")).Exit);
        Assert.Equal(2, (await sentry.Calm("start")).Exit);
        foreach (
            var (meant, line) in new[]
            {
                ("Did you mean start?", new[] { "strat", "counter" }),
                ("Did you mean --json?", ["list", "--josn"]),
                ("--last: found 'ten'; allowed: a whole number", ["output", "counter", "--last", "ten"]),
                ("--state held", ["list", "--state", "hold"]),
                ("cannot be read: it is not there", ["wrap", "--from", "/srv/skerry/no-such-file.yaml"]),
            }
        )
        {
            var mistyped = await sentry.Calm(line);
            Assert.Equal(2, mistyped.Exit);
            Assert.Contains(meant, mistyped.Error, StringComparison.Ordinal);
            Assert.DoesNotContain("System.", mistyped.Error, StringComparison.Ordinal);
        }

        var late = await sentry.Calm("wrap", "trial", "--account", Sentry.Account, "--at", "dawn", "--", "/bin/true");
        Assert.Equal(
            (2, true),
            (
                late.Exit,
                late.Error.Contains(
                    "begin.at: 'dawn'; allowed: boot | boot-late | request | never",
                    StringComparison.Ordinal
                )
            )
        );
        Assert.Equal(1, (await sentry.Calm("wrap", "trial", "--account", "nobody-here", "--", "/bin/true")).Exit);
        if (Environment.UserName == "root")
        {
            var root = await sentry.Calm("wrap", "trial", "--", "/bin/true");
            Assert.Equal((2, true), (root.Exit, root.Error.Contains("--account root", StringComparison.Ordinal)));
        }

        Assert.Single((await sentry.Ok("list", "--json")).Json.EnumerateArray());
    }

    [Theory]
    [InlineData(2, "--dri", "stop", "--all", "--dri")]
    [InlineData(2, "--all", "stop", "--all", "quay-lamps")]
    [InlineData(2, "--forse", "stop", "quay-lamps", "--forse")]
    [InlineData(2, "--forse", "restart", "quay-lamps", "--forse", "tide-gauge")]
    [InlineData(2, "-x", "unwrap", "-x")]
    [InlineData(4, "quay-lamp", "stop", "tide-gauge", "quay-lamp")]
    [InlineData(4, "quay-lamp", "restart", "quay-lamp", "tide-gauge")]
    public async Task What_is_mistyped_touches_nothing(int exit, string named, params string[] command)
    {
        var sentry = one.Sentry;
        foreach (var name in (string[])["quay-lamps", "tide-gauge"])
            await sentry.Wrap(name, "--proof", "up-for:10ms", "--start", "--", "/usr/bin/sleep", "8201");
        var before = await Pids();
        var said = await sentry.Calm(command);
        Assert.Equal(exit, said.Exit);
        Assert.Contains(named, said.Error, StringComparison.Ordinal);
        Assert.Contains("othing was done", said.Error, StringComparison.Ordinal);
        Assert.Equal(before, await Pids());
        await one.Empty();

        async Task<(int, int)> Pids() =>
            (
                (await sentry.Show("quay-lamps")).GetProperty("pid").GetInt32(),
                (await sentry.Show("tide-gauge")).GetProperty("pid").GetInt32()
            );
    }

    [Fact]
    public async Task What_a_command_would_do_is_said_and_not_done()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide-store",
            "--wind-down",
            "INT 3s",
            "--proof",
            "up-for:10ms",
            "--start",
            "--",
            "/usr/bin/sleep",
            "8211"
        );
        await sentry.Wrap(
            "board",
            "--need",
            "service:tide-store",
            "--reload",
            "HUP",
            "--proof",
            "up-for:10ms",
            "--start",
            "--",
            "/usr/bin/sleep",
            "8212"
        );
        await sentry.Wrap("lamps", "--need", "path:/nowhere/lamps", "--", "/usr/bin/sleep", "8213");
        var (before, logged) = (await All(), await Logged());

        await Says(
            "board would be stopped. Its wind-down: TERM (waits 10 s); what is left then would be killed.",
            "stop",
            "board"
        );
        await Says(
            "board, which needs it, would be stopped first. tide-store would be stopped. Its wind-down: INT (waits 3 s), then "
                + "TERM (waits 10 s)",
            "stop",
            "tide-store",
            "--with-dependents"
        );
        await Says("Would be stopped, each after those that need it: board, tide-store.", "stop", "--all");
        await Says("lamps is not running: a stop would change nothing.", "stop", "lamps");
        await Says("/usr/bin/sleep 8213. Before that it would wait for what it needs: ", "start", "lamps");
        await Says("What it needs would be passed over.", "start", "lamps", "--without-needs");
        await Says("tide-store is running already (run 1)", "start", "tide-store");
        await Says("and started again.", "restart", "board");
        await Says("Then board again, in order.", "restart", "tide-store", "--with-dependents");
        await Says("Left in place: its output in ", "unwrap", "board", "--yes");
        await Says("program.arguments[0] is now '99' (was '8212')", "adjust", "board", "--", "/usr/bin/sleep", "99");
        await Says("run 1 keeps running unchanged", "adjust", "board", "--", "/usr/bin/sleep", "99");
        await Says(
            "'radio' would be wrapped as radio",
            "wrap",
            "radio",
            "--account",
            Sentry.Account,
            "--",
            "/usr/bin/sleep",
            "8214"
        );
        await Would("HUP. Then its proof would be looked at.", "reload", "board");
        await Would(
            "BOARD_KEY of board would be sealed with a value of 4 bytes.",
            "secret",
            "set",
            "board",
            "BOARD_KEY"
        );
        await Would("daemon would be permitted to run services.", "account", "permit", "daemon");
        await Would(
            "2 services would be wound down, in this order: board, tide-store; what is left after 9 s would be killed.",
            "host",
            "wind-down",
            "--within",
            "9s"
        );
        if (Environment.UserName == "root")
        {
            var closed = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "closed")).FullName;
            File.SetUnixFileMode(closed, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
            await Would($"now it is refused {closed} (permission denied", "account", "grant", Sentry.Account, closed);
            await Would("there is nothing to take back", "account", "take", Sentry.Account, closed);
            await Would("calm-trial would be made: a system account, locked", "account", "create", "calm-trial");
            Assert.DoesNotContain("calm-trial", await File.ReadAllTextAsync("/etc/passwd"), StringComparison.Ordinal);
        }

        // What would be refused is refused the same.
        var refused = await sentry.Calm("stop", "tide-store", "--dry");
        Assert.Equal(1, refused.Exit);
        Assert.Contains("board needs tide-store", refused.Error, StringComparison.Ordinal);
        Assert.NotEqual(0, (await sentry.Calm("wrap", "radio", "--dry", "--", "/nowhere/radio")).Exit);

        Assert.Equal(before, await All());
        Assert.Equal(4, (await sentry.Calm("show", "radio")).Exit);
        Assert.Equal(logged, await Logged());

        async Task Would(string words, params string[] command)
        {
            var said = await sentry.Piped("kelp", [.. command, "--dry"]);
            Assert.True(said.Exit == 0, said.All);
            Assert.Contains(words, said.Output.ReplaceLineEndings(" "), StringComparison.Ordinal);
            Assert.Contains("Nothing was done.", said.Output, StringComparison.Ordinal);
        }

        async Task Says(string words, params string[] command) =>
            Assert.Contains(
                words,
                (await sentry.Ok([command[0], "--dry", .. command[1..]])).Output.ReplaceLineEndings(" "),
                StringComparison.Ordinal
            );

        // Names, states, runs, processes and revisions.
        async Task<string> All() =>
            string.Join(
                "; ",
                (await sentry.Ok("list", "--json"))
                    .Json.EnumerateArray()
                    .Select(view =>
                        $"{view.GetProperty("name")} {view.GetProperty("state")} {view.GetProperty("pid")} {view.GetProperty("since")}"
                    )
            );

        async Task<int> Logged() => (await sentry.Ok("logbook", "--last", "1000", "--json")).Json.GetArrayLength();
    }

    [Fact]
    public async Task A_restart_is_pending_from_the_change_until_the_next_start()
    {
        await using var sentry = await Sentry.Start();
        foreach (var name in (string[])["board", "lamps"])
            await sentry.Wrap(name, "--proof", "up-for:10ms", "--start", "--", "/usr/bin/sleep", "8221");
        Assert.Contains(
            "No restart is pending",
            (await sentry.Ok("restart", "--pending")).Output,
            StringComparison.Ordinal
        );
        await sentry.Ok("adjust", "board", "--title", "The board"); // holds at once
        Assert.Equal(JsonValueKind.Null, Pending(await sentry.Show("board")).ValueKind);
        await sentry.Ok("adjust", "board", "--environment", "COLOUR=green", "--", "/usr/bin/sleep", "8222");
        await Seen();
        // Who takes the service up later knows it, too.
        await sentry.KillServer();
        await sentry.Serve();
        await Seen();
        var lamps = (await sentry.Show("lamps")).GetProperty("pid").GetInt32();
        await sentry.Ok("restart", "--pending");
        var now = await sentry.Show("board");
        Assert.Equal((2, JsonValueKind.Null), (now.GetProperty("run").GetInt32(), Pending(now).ValueKind));
        Assert.Equal(lamps, (await sentry.Show("lamps")).GetProperty("pid").GetInt32());
        // Taken back before a restart, nothing is pending.
        await sentry.Ok("adjust", "board", "--", "/usr/bin/sleep", "9");
        await sentry.Ok("adjust", "board", "--", "/usr/bin/sleep", "8222");
        Assert.Equal(JsonValueKind.Null, Pending(await sentry.Show("board")).ValueKind);

        async Task Seen()
        {
            var view = await sentry.Show("board");
            Assert.Equal(
                """["program.arguments","program.environment.COLOUR"]""",
                Pending(view).GetRawText().Replace(" ", "", StringComparison.Ordinal).ReplaceLineEndings("")
            );
            Assert.Contains(
                "Restart pending: program.arguments, program.environment.COLOUR",
                view.GetProperty("why").GetString(),
                StringComparison.Ordinal
            );
            var shown = (await sentry.Ok("show", "board")).Output;
            Assert.Matches(@"runs now\s+/usr/bin/sleep 8221", shown);
            Assert.Matches(@"next start\s+/usr/bin/sleep 8222", shown);
            Assert.Contains("Restart pending", (await sentry.Ok("list")).Output, StringComparison.Ordinal);
        }

        static JsonElement Pending(JsonElement view) =>
            view.TryGetProperty("pending", out var keys) ? keys : JsonDocument.Parse("null").RootElement;
    }

    [Fact]
    public async Task A_malformed_body_is_told_where_it_breaks()
    {
        await using var sentry = await Sentry.Start();
        using var client = sentry.Http();
        using var answer = await client.PostAsync(
            "http://sentry/api/services",
            new StringContent("{\n  \"name\": \"x\",\n  oops\n}", Encoding.UTF8, "application/json")
        );
        Assert.Equal(
            (400, "application/problem+json"),
            ((int)answer.StatusCode, answer.Content.Headers.ContentType!.MediaType)
        );
        var problem = JsonDocument.Parse(await answer.Content.ReadAsStringAsync()).RootElement;
        Assert.Equal("malformed-body", problem.GetProperty("code").GetString());
        Assert.Contains("line 3", problem.GetProperty("detail").GetString(), StringComparison.Ordinal);
        Assert.Equal("[]", await client.GetStringAsync("http://sentry/api/services"));
    }

    [Fact]
    public async Task The_published_descriptions_are_the_ones_it_serves()
    {
        await using var sentry = await Sentry.Start();
        using var client = sentry.Http();
        var served = await client.GetStringAsync("http://sentry/api/openapi.json");
        Assert.True(
            JsonElement.DeepEquals(
                JsonDocument.Parse(served).RootElement,
                JsonDocument.Parse(await Published("openapi.json")).RootElement
            ),
            "docs/openapi.json is old: tools/docs.sh writes it anew"
        );
        var schema = await client.GetStringAsync("http://sentry/api/definition.schema.json");
        Assert.True(
            schema == await Published("definition.schema.json"),
            "docs/definition.schema.json is old: tools/docs.sh writes it anew"
        );
        Assert.Equal(
            "https://json-schema.org/draft/2020-12/schema",
            JsonDocument.Parse(schema).RootElement.GetProperty("$schema").GetString()
        );
    }

    private static Task<string> Published(string name)
    {
        var directory = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(directory!.FullName, "build.sh")))
            directory = directory.Parent;
        return File.ReadAllTextAsync(Path.Combine(directory.FullName, "docs", name));
    }
}
