using System.Diagnostics;
using System.Text.Json;
using System.Text.Json.Nodes;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// Every finding: its fault is brought about for real, and exactly that finding comes; of a definition with which all
/// is
/// well, none does.
/// </summary>
[Needs("perl", "python3", "tigervnc-standalone-server")]
public sealed class CheckTests(OneSentry one) : IClassFixture<OneSentry>, IAsyncLifetime
{
    private readonly Sentry sentry = one.Sentry;
    private string place = "";

    public async ValueTask InitializeAsync()
    {
        place = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, Path.GetRandomFileName())).FullName;
        await Do("chown", "nobody", place);
        await File.WriteAllTextAsync(Path.Combine(place, "timetable.csv"), "08:00;Kobbvik\n");
        Script("board", "#!/bin/sh\nexec sleep 600\n");
    }

    public async ValueTask DisposeAsync() => await one.Empty();

    private string Script(string name, string text, int mode = 0b111_101_101)
    {
        var path = Path.Combine(place, name);
        File.WriteAllText(path, text);
        File.SetUnixFileMode(path, (UnixFileMode)mode);
        return path;
    }

    private JsonObject Fine() =>
        new()
        {
            ["name"] = "board",
            ["program"] = new JsonObject
            {
                ["path"] = Path.Combine(place, "board"),
                ["arguments"] = new JsonArray("timetable.csv"),
                ["directory"] = place,
            },
            ["identity"] = new JsonObject { ["account"] = "nobody" },
        };

    private static async Task Do(string command, params string[] arguments)
    {
        using var process = Process.Start(new ProcessStartInfo(command, arguments) { RedirectStandardError = true })!;
        var error = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        Assert.True(process.ExitCode == 0, $"{command} {string.Join(' ', arguments)}: {await error}");
    }

    private async Task<JsonElement> Check(Action<JsonObject> change, Sentry? other = null)
    {
        var definition = Fine();
        change(definition);
        return await (other ?? sentry).Call(HttpMethod.Post, "check", definition.ToJsonString());
    }

    /// <summary>
    /// The fault is brought about by a change of the fine definition: these findings come, and no others.
    /// </summary>
    private async Task<JsonElement> Finds(string codes, Action<JsonObject> change, Sentry? other = null)
    {
        var view = await Check(change, other);
        Assert.True(view.GetProperty("errors").GetArrayLength() == 0, view.ToString());
        var found = view.GetProperty("findings")
            .EnumerateArray()
            .Select(finding => $"{finding.GetProperty("severity")} {finding.GetProperty("code")}")
            .Distinct()
            .Order(StringComparer.Ordinal);
        Assert.Equal(codes, string.Join(", ", found));
        foreach (var finding in view.GetProperty("findings").EnumerateArray())
        foreach (var part in new[] { "seen", "why", "mend" })
            Assert.NotEmpty(finding.GetProperty(part).GetString()!);
        Assert.Equal(codes.Contains("blocks", StringComparison.Ordinal), !view.GetProperty("clear").GetBoolean());
        return view;
    }

    private static Action<JsonObject> Program(string key, JsonNode value) =>
        definition => definition["program"]![key] = value;

    private static Action<JsonObject> At(string path) => Program("path", path);

    private static Action<JsonObject> Resource(string key, string value) =>
        definition => definition["resources"] = new JsonObject { [key] = value };

    [Fact]
    public async Task All_is_well()
    {
        await Finds("", _ => { });
        var wrapped = await sentry.Call(HttpMethod.Post, "services", Fine().ToJsonString());
        Assert.True(wrapped.GetProperty("came-true").GetBoolean());
        await sentry.Ok("start", "board");
        Assert.Contains(
            "nothing stands in its way",
            (await sentry.Ok("check", "board")).Output,
            StringComparison.Ordinal
        ); // also of its own live run
    }

    [Fact]
    public async Task Its_program()
    {
        await Finds("blocks program-missing", At("/srv/no/such/board"));
        await Finds("blocks program-is-directory", At(place));
        await Finds(
            "blocks program-not-a-file",
            definition =>
            {
                definition["program"]!["path"] = "/dev/full";
                definition["program"]!["directory"] = place;
            }
        );
        await Finds("blocks program-not-executable", At(Script("plain", "no program\n", 0b110_100_100)));
        await Finds("blocks program-format", At(Script("odd", "no program\n")));
        await Finds("blocks interpreter-missing", At(Script("asks", "#!/no/such/interpreter\n")));
        await Finds("blocks interpreter-missing", At(Script("windows", "#!/bin/sh\r\n")));
        await Finds("blocks interpreter-missing", At(Script("env", "#!/usr/bin/env no-such-interpreter\n")));
        await Finds("blocks interpreter-missing", Program("with", "/no/such/python3"));
        var other = Path.Combine(place, "other-machine");
        var bytes = await File.ReadAllBytesAsync("/bin/true");
        bytes[18] = 243; // e_machine: RISC-V
        await File.WriteAllBytesAsync(other, bytes);
        File.SetUnixFileMode(other, (UnixFileMode)0b111_101_101);
        await Finds("blocks program-machine", At(other));
        await Finds(
            "blocks off-command-missing",
            definition =>
            {
                definition["program"]!["kind"] = "toggles";
                definition["program"]!["off"] = new JsonArray("/srv/no/such/off");
            }
        );
    }

    [Fact]
    public async Task Its_libraries_and_modules()
    {
        await File.WriteAllTextAsync(Path.Combine(place, "tide.c"), "int tide(void) { return 0; }\n");
        await File.WriteAllTextAsync(
            Path.Combine(place, "main.c"),
            "int tide(void); int main(void) { return tide(); }\n"
        );
        await Do("gcc", "-shared", "-o", $"{place}/libtide.so", $"{place}/tide.c");
        await Do("gcc", "-o", $"{place}/needs", $"{place}/main.c", $"-L{place}", "-ltide");
        var view = await Finds("blocks library-missing", At(Path.Combine(place, "needs")));
        Assert.Contains(
            "libtide.so",
            view.GetProperty("findings")[0].GetProperty("seen").GetString(),
            StringComparison.Ordinal
        );
        await Finds(
            "",
            definition =>
            {
                definition["program"]!["path"] = Path.Combine(place, "needs");
                definition["program"]!["environment"] = new JsonObject { ["LD_LIBRARY_PATH"] = place };
            }
        );

        await Finds("", At(Script("tides.pl", "use strict;\nuse Socket;\nsleep 600;\n", 0b110_100_100)));
        var module = await Finds(
            "blocks module-missing",
            At(Script("tides2.pl", "use Quay::Tides;\nsystem('touch', 'ran');\n", 0b110_100_100))
        );
        Assert.Contains(
            "'Quay::Tides'",
            module.GetProperty("findings")[0].GetProperty("seen").GetString(),
            StringComparison.Ordinal
        );
        Assert.False(File.Exists(Path.Combine(place, "ran")), "the script was read, not run");
        await Finds("blocks script-syntax", At(Script("tides3.pl", "use strict;\nmy $x = ;\n", 0b110_100_100)));
        await Finds("blocks script-syntax", At(Script("tides5.pl", "use strict;\n$tide = 3;\n", 0b110_100_100)));
        await Finds(
            "risk script-syntax",
            At(Script("tides.sh", "#!/bin/sh\nexec sleep 600\nif then\n", 0b111_101_101))
        );
        // What Perl runs while it reads has no network, not even this host's own.
        await Finds(
            "",
            At(
                Script(
                    "tides6.pl",
                    "BEGIN { use IO::Socket; open F, '>', '/dev/null'; die if IO::Socket::INET->new(PeerAddr => '127.0.0.1:1') || $! !~ /unreachable/i }\nsleep 600;\n",
                    0b110_100_100
                )
            )
        );
        // Nor does it get all of this host's memory.
        await Finds(
            "",
            At(
                Script(
                    "tides7.pl",
                    "BEGIN { my $x = 'x' x (2 << 30); die 'syntax error, for it got it' }\nsleep 600;\n",
                    0b110_100_100
                )
            )
        );
        if (!File.Exists("/usr/bin/python3"))
            return;
        await Finds("", At(Script("tides.py", "import json, os.path\nfrom sys import argv\n", 0b110_100_100)));
        await Finds(
            "blocks module-missing",
            At(Script("tides2.py", "import json\nimport no_such_tides\nopen('ran', 'w')\n", 0b110_100_100))
        );
        await Finds("blocks script-syntax", At(Script("tides3.py", "print 'high water'\n", 0b110_100_100)));
        await Finds(
            "blocks interpreter-other-language",
            definition =>
            {
                At(Script("tides4.py", "print(1)\n", 0b110_100_100))(definition);
                definition["program"]!["with"] = "/usr/bin/perl";
            }
        );
        // Where the script itself says where else to look, it may find them.
        await Finds(
            "risk module-missing",
            At(
                Script(
                    "tides4.py",
                    "import sys\nsys.path.insert(0, '/srv/quay')\nimport no_such_tides\n",
                    0b110_100_100
                )
            )
        );
        // What lies in its directory, or where it looks for modules, under the name of one of the interpreter's own is not run for it;
        // and how such a one ends decides nothing.
        foreach (var name in (string[])["ast", "importlib"])
            Script($"{name}.py", "open('ran', 'w')\nimport posix\nposix._exit(123)\n", 0b110_100_100);
        await Finds(
            "blocks module-missing",
            definition =>
            {
                At(Script("tides8.py", "import no_such_tides\n", 0b110_100_100))(definition);
                definition["program"]!["environment"] = new JsonObject { ["PYTHONPATH"] = place };
            }
        );
        foreach (var name in (string[])["ast", "importlib"])
            File.Delete(Path.Combine(place, $"{name}.py"));
        Assert.False(File.Exists(Path.Combine(place, "ran")));
    }

    [Fact]
    public async Task What_its_account_may_do()
    {
        var closed = Directory.CreateDirectory(Path.Combine(place, "closed")).FullName;
        var inner = Directory.CreateDirectory(Path.Combine(closed, "inner")).FullName;
        File.Copy(Path.Combine(place, "board"), Path.Combine(closed, "board"));
        File.SetUnixFileMode(closed, (UnixFileMode)0b111_000_000);
        await Finds("blocks directory-missing", Program("directory", "/srv/no/such/place"));
        var view = await Finds("blocks directory-unreachable", Program("directory", inner));
        Assert.Contains(
            $"{closed} does not let it pass",
            view.GetProperty("findings")[0].GetProperty("seen").GetString(),
            StringComparison.Ordinal
        );
        await Finds(
            "blocks account-cannot-run",
            definition =>
            {
                definition["program"]!["path"] = Path.Combine(closed, "board");
                definition["program"]!["directory"] = place;
            }
        );
        await Finds("blocks account-cannot-run", At(Script("mine", "#!/bin/sh\n", 0b111_000_000)));
        Script("secret.csv", "x", 0b110_000_000);
        await Finds("risk file-unreadable", Program("arguments", new JsonArray("--from=secret.csv")));
        await Finds("note directory-read-only", Program("directory", "/usr"));
        await Finds(
            "blocks pid-file-unwritable",
            definition =>
            {
                definition["program"]!["kind"] = "detaches";
                definition["program"]!["pid-file"] = "/etc/board.pid";
            }
        );
    }

    [Fact]
    public async Task Its_account()
    {
        static Action<JsonObject> As(string account) => definition => definition["identity"]!["account"] = account;
        await Finds("blocks account-missing", As("no-such-account"));
        await Finds("blocks account-not-permitted, note directory-read-only", As("daemon"));
        await Finds("blocks account-needed", definition => definition.Remove("identity"));
        await Finds("blocks account-not-permitted, risk account-is-root", As("root"));
        await Finds(
            "blocks group-missing",
            definition => definition["identity"]!["groups"] = new JsonArray("no-such-group")
        );
        var person = Sentry.NewAccount();
        await Do("useradd", "--no-create-home", "--home-dir", place, "--shell", "/bin/sh", "--groups", "adm", person);
        try
        {
            await sentry.Ok("account", "permit", person);
            await Finds("note account-is-a-person, note directory-read-only, risk account-is-powerful", As(person));
        }
        finally
        {
            await Do("userdel", person);
        }
    }

    [Fact]
    public async Task Its_moments_its_log_files_and_whom_it_tells()
    {
        await Finds(
            "",
            Job(
                "{ \"run\": \"daily at 02:00\", \"success-within\": \"25 h\", \"late-after\": \"5 min\", \"longest\": \"6 min\" }"
            )
        );
        await Finds("risk success-too-soon", Job("{ \"run\": \"every 10 min\", \"success-within\": \"1 min\" }"));
        await Finds(
            "note late-never",
            Job("{ \"run\": \"every 10 min\", \"late-after\": \"6 min\", \"longest\": \"5 min\" }")
        );
        await Finds(
            "note reopen-unused",
            definition => definition["output"] = JsonNode.Parse("{ \"reopen\": [{ \"signal\": \"USR1\" }] }")
        );
        await Finds(
            "blocks recipient-missing",
            definition => definition["tell"] = new JsonArray("clerk@skerry.example")
        );

        static Action<JsonObject> Job(string rhythm) =>
            definition =>
            {
                definition["program"]!["kind"] = "periodic";
                definition["rhythm"] = new JsonArray(JsonNode.Parse(rhythm));
            };
    }

    [Fact]
    public async Task What_it_may_use()
    {
        await Finds(
            "",
            definition =>
                definition["resources"] = new JsonObject
                {
                    ["memory"] = "64 MiB",
                    ["cpu"] = "50 %",
                    ["tree-size"] = "20",
                    ["processors"] = "0",
                    ["open-files"] = "100",
                    ["priority"] = "high",
                    ["disk"] = "idle",
                }
        );
        await Finds("blocks processors-missing", Resource("processors", "0,999"));
        await Finds("note memory-over-machine", Resource("memory", "900 TiB"));
        await sentry.Ok(
            "wrap",
            "board",
            "--account",
            "nobody",
            "--",
            Script("eats", "#!/bin/sh\nx=$(head -c 20000000 /dev/zero | tr '\\0' x)\nsleep 600\n")
        );
        await sentry.Ok("rehearse", "board", "--for", "2s");
        await sentry.Ok("unwrap", "board", "--yes");
        await Finds("", Resource("memory", "8 MiB")); // unwrapped is forgotten
        await sentry.Ok("wrap", "board", "--account", "nobody", "--", Path.Combine(place, "eats"));
        await sentry.Ok("rehearse", "board", "--for", "2s");
        await Finds("note name-taken, risk memory-under-rehearsal", Resource("memory", "8 MiB"));
        await Finds("note name-taken", Resource("memory", "256 MiB"));

        await using var without = await Sentry.StartWithoutRoot();
        await Finds("blocks priority-not-possible", Resource("priority", "high"), without);
        await Finds("", Resource("priority", "idle"), without);
        await Finds("blocks open-files-too-many", Resource("open-files", "1048576"), without);
        await Finds("risk limit-not-possible", Resource("memory", "64 MiB"), without);
        await Finds("note name-taken", Program("window", "400x300"));
        await Finds("blocks window-not-possible", Program("window", "400x300"), without);
        await Finds(
            "blocks account-not-possible",
            definition => definition["identity"]!["account"] = "daemon",
            without
        );
    }

    [Fact]
    public async Task Its_secrets()
    {
        await Finds("risk secret-in-plain", Program("environment", new JsonObject { ["BOARD_PASSWORD"] = "herring" }));
        Assert.DoesNotContain(
            "herring",
            (await Check(Program("arguments", new JsonArray("--token", "herring")))).GetProperty("findings").ToString(),
            StringComparison.Ordinal
        );
        await Finds("blocks secret-missing", Program("secrets", new JsonArray("BOARD_KEY")));
        await sentry.Piped("herring", "secret", "set", "board", "BOARD_KEY");
        await Finds("", Program("secrets", new JsonArray("BOARD_KEY")));
        var disk = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "disk")).FullName;
        await using var diskOnly = await Sentry.Start(
            "unshare",
            "--mount",
            "sh",
            "-c",
            "mount --bind \"$0\" /dev/shm && exec \"$@\"",
            disk
        );
        await Finds(
            "blocks secret-file-not-possible, blocks secret-missing",
            Program("secrets", new JsonArray(new JsonObject { ["key"] = "BOARD_KEY", ["as"] = "file" })),
            diskOnly
        );
    }

    [Fact]
    public async Task Whoever_is_in_its_way()
    {
        using var listener = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        listener.Start();
        var port = ((System.Net.IPEndPoint)listener.LocalEndpoint).Port;
        var taken = await Finds(
            "blocks port-taken",
            Program("environment", new JsonObject { ["BOARD_PORT"] = $"{port}" })
        );
        Assert.Contains(
            $"pid {Environment.ProcessId}",
            taken.GetProperty("findings")[0].GetProperty("seen").GetString(),
            StringComparison.Ordinal
        );
        listener.Stop();
        await Finds("", Program("environment", new JsonObject { ["BOARD_PORT"] = $"{port}" }));

        using var copy = Process.Start(
            new ProcessStartInfo(Path.Combine(place, "board"), ["timetable.csv"]) { WorkingDirectory = place }
        )!;
        // It is a copy of the script for as long as the shell has not become something else.
        using var kept = Process.Start(
            new ProcessStartInfo(
                "/bin/sh",
                [Script("stays", "#!/bin/sh\nwhile :; do sleep 1; done\n"), "timetable.csv"]
            )
            {
                WorkingDirectory = place,
            }
        )!;
        try
        {
            var seen = (await Finds("blocks copy-running", At(Path.Combine(place, "stays"))))
                .GetProperty("findings")[0]
                .GetProperty("seen")
                .GetString()!;
            Assert.Contains($"pid {kept.Id}, as {Environment.UserName}, since ", seen, StringComparison.Ordinal);
            await Finds(
                "risk copy-with-other-arguments",
                definition =>
                {
                    definition["program"]!["path"] = Path.Combine(place, "stays");
                    definition["program"]!["arguments"] = new JsonArray("other.csv");
                }
            );
        }
        finally
        {
            kept.Kill(entireProcessTree: true);
            copy.Kill(entireProcessTree: true);
        }

        using var typed = Process.Start(
            new ProcessStartInfo(
                "script",
                ["-qec", $"echo up; exec /bin/sh {place.Quoted()}/stays timetable.csv", "/dev/null"]
            )
            {
                WorkingDirectory = place,
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
            }
        )!;
        try
        {
            await typed.StandardOutput.ReadLineAsync();
            var seen = "";
            await Sentry.Eventually(async () =>
                (seen = (await Check(At(Path.Combine(place, "stays")))).GetProperty("findings").ToString()).Contains(
                    "copy-running",
                    StringComparison.Ordinal
                )
            ); // the shell is becoming the copy
            Assert.Contains("from the terminal pts/", seen, StringComparison.Ordinal);
        }
        finally
        {
            typed.Kill(entireProcessTree: true);
        }

        await sentry.Ok(
            "wrap",
            "First board",
            "--account",
            "nobody",
            "--",
            Path.Combine(place, "board"),
            "timetable.csv"
        );
        await Finds("risk same-program, risk title-taken", definition => definition["title"] = "First board");
    }

    [Theory]
    [InlineData("/etc/cron.d/calm-test-board", "@reboot root PROGRAM timetable.csv\n", "starts it on a schedule")]
    [InlineData(
        "/etc/profile.d/calm-test-board.sh",
        "# a comment on PROGRAM\nPROGRAM &\n",
        "starts it when somebody logs in"
    )]
    [InlineData(
        "/etc/xdg/autostart/calm-test-board.desktop",
        "[Desktop Entry]\nExec=PROGRAM timetable.csv\n",
        "starts it when somebody logs in"
    )]
    [InlineData("/etc/init.d/calm-test-board", "#!/bin/sh\nPROGRAM timetable.csv &\n", "starts it at boot")]
    public async Task Other_starts(string file, string text, string words)
    {
        var program = Script($"other-start-{Path.GetFileName(file)}", "#!/bin/sh\nexec sleep 600\n");
        var link = $"/etc/rc2.d/S99{Path.GetFileName(file)}";
        Directory.CreateDirectory(Path.GetDirectoryName(file)!);
        Directory.CreateDirectory("/etc/rc2.d");
        try
        {
            await Finds("", At(program));
            await File.WriteAllTextAsync(file, text.Replace("PROGRAM", program, StringComparison.Ordinal));
            if (file.StartsWith("/etc/init.d", StringComparison.Ordinal))
            {
                await Finds("", At(program)); // a boot script that no run level begins starts nothing
                File.CreateSymbolicLink(link, file);
            }

            var view = await Finds("risk other-start", At(program));
            var seen = view.GetProperty("findings")[0].GetProperty("seen").GetString()!;
            Assert.StartsWith($"{file}, line ", seen, StringComparison.Ordinal);
            Assert.Contains(words, seen, StringComparison.Ordinal);
        }
        finally
        {
            File.Delete(file);
            File.Delete(link);
        }
    }

    [Fact]
    public async Task What_blocks_is_refused_and_can_be_accepted_by_name()
    {
        var program = Script("stays2", "#!/bin/sh\nwhile :; do sleep 1; done\n");
        var refused = await sentry.Calm(
            "wrap",
            "stays2",
            "--account",
            "nobody",
            "--directory",
            "/srv/no/such",
            "--",
            program
        );
        Assert.Equal(
            (1, true),
            (refused.Exit, refused.Error.Contains("The directory /srv/no/such is not there.", StringComparison.Ordinal))
        );
        Assert.Equal(4, (await sentry.Calm("show", "stays2")).Exit);
        await sentry.Wrap("stays2", "--", program);
        using var copy = Process.Start(new ProcessStartInfo("/bin/sh", [program]) { WorkingDirectory = place })!;
        Assert.Contains(
            "The same program runs already",
            (await sentry.Calm("start", "stays2")).Error,
            StringComparison.Ordinal
        );
        await sentry.Ok("start", "stays2", "--accept", "copy-running");
        Assert.Contains(
            "copy-running was accepted",
            (await sentry.Ok("logbook", "stays2")).Output,
            StringComparison.Ordinal
        );
        await sentry.Ok("stop", "stays2");
        Assert.False(copy.HasExited);
        await sentry.Ok("start", "stays2", "--end-copies");
        await copy.WaitForExitAsync();
        // What it begins bears its name, too, until it is what it is to be.
        await Sentry.Eventually(() =>
            sentry
                .Processes("stays2")
                .Count(pid => Sentry.CommandLine(pid).Contains("stays2", StringComparison.Ordinal)) == 1
        );
    }
}
