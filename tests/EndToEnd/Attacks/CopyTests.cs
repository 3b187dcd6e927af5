namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>A copy is in the way when whoever began it may have a say, or it holds what the service needs; any other is only named.</summary>
[Needs("redis-server")]
public sealed class CopyTests
{
    public CopyTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    [Fact]
    public async Task Another_accounts_process_keeps_nobody_from_starting()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("tide", "#!/bin/sh\nwhile :; do sleep 1; done\n");
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--", script, "high");
        using var theirs = Sentry.Began("daemon", "/bin/sh", script, "high");
        await Sentry.Eventually(() => Sentry.CommandLine(theirs.Id).Contains("high", StringComparison.Ordinal));
        var check = (await sentry.Calm("check", "tide")).Output;
        Assert.Contains("copy-of-another", check, StringComparison.Ordinal);
        Assert.Contains($"pid {theirs.Id}, as daemon", check, StringComparison.Ordinal);
        await sentry.Ok("start", "tide");
        await sentry.Ok("stop", "tide");

        // Its own account's is in the way, and only that one is ended.
        using var own = Sentry.Began("nobody", "/bin/sh", script, "high");
        await Sentry.Eventually(() => Sentry.CommandLine(own.Id).Contains("high", StringComparison.Ordinal));
        var refused = await sentry.Calm("start", "tide");
        Assert.NotEqual(0, refused.Exit);
        Assert.Contains($"pid {own.Id}, as nobody", refused.Error, StringComparison.Ordinal);
        Assert.DoesNotContain($"pid {theirs.Id}", refused.Error, StringComparison.Ordinal);
        var dry = await sentry.Ok("start", "tide", "--end-copies", "--dry");
        Assert.Contains($"Asked to end first: pid {own.Id}, as nobody", dry.Output, StringComparison.Ordinal);
        await sentry.Ok("start", "tide", "--end-copies");
        Assert.True(own.HasExited || !Sentry.Lives(own.Id));
        Assert.True(Sentry.Lives(theirs.Id));
        await Sentry.End(theirs);
    }

    [Fact]
    public async Task Of_the_hosts_own_tools_it_is_what_they_hold_that_counts()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--", "/bin/sleep", "30303");
        using var unrelated = Sentry.Began("nobody", "/bin/sleep", "30303");
        await sentry.Ok("start", "tide");
        await Sentry.End(unrelated);

        // One that writes over its own command line is known by what it executes and the port it holds.
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "store",
            "--proof",
            $"tcp:127.0.0.1:{port}",
            "--",
            "/usr/bin/redis-server",
            "--port",
            $"{port}",
            "--bind",
            "127.0.0.1",
            "--save",
            ""
        );
        using var copy = Sentry.Began(
            "nobody",
            "/usr/bin/redis-server",
            "--port",
            $"{port}",
            "--bind",
            "127.0.0.1",
            "--save",
            ""
        );
        await Sentry.Eventually(async () =>
            (await sentry.Calm("check", "store")).Output.Contains("copy-running", StringComparison.Ordinal)
        );
        Assert.Contains(
            $"pid {copy.Id}, as nobody",
            (await sentry.Calm("start", "store")).Error,
            StringComparison.Ordinal
        );
        await sentry.Ok("start", "store", "--end-copies");
        Assert.False(Sentry.Lives(copy.Id));
    }

    /// <summary>Kinds of programs, each as a person types it: <c>$1</c> is its folder, <c>$2</c> a port of its own.</summary>
    public static TheoryData<string, string, string> Kinds
    {
        get
        {
            var all = new TheoryData<string, string, string>();
            foreach (
                var (kind, typed) in ((string, string)[])
                    [
                        ("a program of one's own", "./crane"),
                        ("an interpreter of the host's", "/usr/bin/python3 ./robot.py book"),
                        ("an interpreter, by its name", "python3 \"$1\"/robot.py \"$1\"/book"),
                        ("a script by itself", "\"$1\"/robot.py book"),
                        ("a daemon with its settings", "/usr/bin/redis-server ./media.conf"),
                        ("a parent whose child has the port", "./parent.py \"$2\""),
                    ]
            )
            foreach (var who in (string[])["root", "nobody", "person"])
                all.Add(kind, typed, who);
            return all;
        }
    }

    [Theory]
    [MemberData(nameof(Kinds))]
    public async Task Typed_by_hand_it_is_in_the_way_until_it_is_ended(string kind, string typed, string who)
    {
        await using var sentry = await Sentry.Start();
        var (folder, port) = (Path.Combine(sentry.Places.Root, "srv"), Sentry.FreePort());
        Directory.CreateDirectory(folder);
        void File_(string name, string text)
        {
            File.WriteAllText(Path.Combine(folder, name), text);
            File.SetUnixFileMode(Path.Combine(folder, name), (UnixFileMode)0b111_101_101);
        }
        File.Copy("/bin/sleep", Path.Combine(folder, "crane"));
        File_("robot.py", "#!/usr/bin/python3\nimport time\nwhile True: time.sleep(1)\n");
        File_("book", "");
        File_("media.conf", $"port {port}\nbind 127.0.0.1\nsave \"\"\n");
        File_(
            "parent.py",
            "#!/usr/bin/python3\nimport os, socket, sys, time\nif os.fork() == 0:\n  s = socket.create_server(('127.0.0.1', int(sys.argv[1])))\nwhile True: time.sleep(1)\n"
        );
        // As wrapped: absolute, whatever was typed.
        string[] command = typed switch
        {
            "./crane" => [Path.Combine(folder, "crane"), "600"],
            var text when text.Contains("redis", StringComparison.Ordinal) =>
            [
                "/usr/bin/redis-server",
                Path.Combine(folder, "media.conf"),
            ],
            var text when text.Contains("parent", StringComparison.Ordinal) =>
            [
                Path.Combine(folder, "parent.py"),
                $"{port}",
            ],
            var text when text.StartsWith('"') => [Path.Combine(folder, "robot.py"), Path.Combine(folder, "book")],
            _ => ["/usr/bin/python3", Path.Combine(folder, "robot.py"), Path.Combine(folder, "book")],
        };
        var hasPort = command[^1] == $"{port}" || command[0].Contains("redis", StringComparison.Ordinal);
        await sentry.Wrap("tide", ["--proof", hasPort ? $"tcp:127.0.0.1:{port}" : "up-for:50ms", "--", .. command]);
        var line = typed == "./crane" ? "exec ./crane 600" : $"exec {typed}";
        // The person behind sudo has an account of their own, which cannot become root.
        const string person = "games";
        foreach (
            var from in typed.Contains("./", StringComparison.Ordinal)
            || typed.Contains(" book", StringComparison.Ordinal)
                ? new[] { folder }
                : [folder, "/"]
        )
        {
            using var copy = Sentry.Began(
                who == "person" ? person : who,
                "env",
                "-C",
                from,
                "PATH=/usr/bin:/bin",
                "sh",
                "-c",
                line,
                "sh",
                folder,
                $"{port}"
            );
            await Sentry.Eventually(() =>
                !Sentry.CommandLine(copy.Id).StartsWith("sh", StringComparison.Ordinal)
                && !Sentry.CommandLine(copy.Id).StartsWith("env", StringComparison.Ordinal)
                && !Sentry.CommandLine(copy.Id).StartsWith("setpriv", StringComparison.Ordinal)
            );
            if (hasPort)
                await Sentry.Eventually(() => Listens(port));
            async Task<Said> Ask(params string[] words) =>
                who == "person" ? await sentry.BehindSudo(person, words) : await sentry.Calm(words);
            var check = await Ask("check", "tide", "--json");
            if (check.Exit == 9)
                Assert.Skip("this host lets nobody say who logged in (loginuid)");
            Assert.True(
                check.Output.Contains("\"copy-running\"", StringComparison.Ordinal)
                    && check.Output.Contains($"pid {copy.Id}, as", StringComparison.Ordinal),
                $"{kind}, as {who}, from {from}: {check.All}"
            );
            Assert.Equal(1, (await Ask("start", "tide")).Exit);
            Assert.True(Sentry.Lives(copy.Id));
            var dry = await Ask("start", "tide", "--end-copies", "--dry");
            Assert.Equal(0, dry.Exit);
            Assert.Contains($"pid {copy.Id}, as", dry.Output, StringComparison.Ordinal);
            Assert.Equal(0, (await Ask("start", "tide", "--end-copies")).Exit);
            Assert.False(Sentry.Lives(copy.Id));
            await sentry.Ok("stop", "tide");
        }
    }

    private static bool Listens(int port) =>
        System
            .Net.NetworkInformation.IPGlobalProperties.GetIPGlobalProperties()
            .GetActiveTcpListeners()
            .Any(one => one.Port == port);

    [Fact]
    public async Task What_a_loop_begins_again_is_not_started_beside()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("tide", "#!/bin/sh\nwhile :; do sleep 1; done\n");
        var loop = sentry.Script("loop", $"#!/bin/sh\nwhile :; do {script.Quoted()} high; sleep 3; done\n");
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--", script, "high");
        using var theirs = Sentry.Began("root", "/bin/sh", loop);
        await Sentry.Eventually(async () =>
            (await sentry.Calm("check", "tide", "--json")).Output.Contains(
                "may start it again",
                StringComparison.Ordinal
            )
        );
        var refused = await sentry.Calm("start", "tide", "--end-copies");
        Assert.Equal(1, refused.Exit);
        Assert.Contains($"(pid {theirs.Id})", refused.Error, StringComparison.Ordinal);
        Assert.True(Sentry.Lives(theirs.Id));
        Assert.Equal("stopped", (await sentry.Show("tide")).GetProperty("state").GetString());
        await Sentry.End(theirs);
    }

    [Fact]
    public async Task One_begun_inside_another_services_run_is_named_with_it()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("tide", "#!/bin/sh\nwhile :; do sleep 1; done\n");
        await sentry.Wrap(
            "yard",
            "--proof",
            "up-for:50ms",
            "--start",
            "--",
            sentry.Script("yard", $"#!/bin/sh\n{script.Quoted()} high &\nwait\n")
        );
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--", script, "high");
        await Sentry.Eventually(async () =>
            (await sentry.Calm("check", "tide", "--json")).Output.Contains(
                "inside the service yard",
                StringComparison.Ordinal
            )
        );
        Assert.Equal(1, (await sentry.Calm("start", "tide")).Exit);
        // Two that were wrapped to run the same are no copies of each other: that was said when it was done.
        await sentry.Ok("stop", "yard");
        await sentry.Wrap("ebb", "--proof", "up-for:50ms", "--accept", "same-program", "--start", "--", script, "high");
        await sentry.Ok("start", "tide");
    }

    [Fact]
    public async Task A_stopped_copy_hears_that_it_is_to_end_and_a_run_of_its_own_is_none()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        string[] command = ["/usr/bin/redis-server", "--port", $"{port}", "--bind", "127.0.0.1", "--save", ""];
        await sentry.Wrap("store", ["--proof", $"tcp:127.0.0.1:{port}", "--", .. command]);
        using var copy = Sentry.Began("root", command);
        await Sentry.Eventually(() => Listens(port));
        Sentry.Kill(copy.Id, "STOP");
        Assert.Equal(1, (await sentry.Calm("start", "store")).Exit);
        await sentry.Ok("start", "store", "--end-copies");
        Assert.False(Sentry.Lives(copy.Id));
        // It rewrites its title, and is the service's own.
        var run = (await sentry.Show("store")).GetProperty("pid").GetInt32();
        Assert.DoesNotContain(
            $"pid {run}",
            (await sentry.Ok("start", "store", "--end-copies", "--dry")).Output.Split("is running")[0],
            StringComparison.Ordinal
        );
        await sentry.Ok("start", "store", "--end-copies");
        Assert.Equal(run, (await sentry.Show("store")).GetProperty("pid").GetInt32());
    }
}
