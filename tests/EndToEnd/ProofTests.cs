using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// What shows that a program serves: each kind of proof comes about for real, and until then the service is starting.
/// </summary>
[Needs("memcached")]
public class ProofTests
{
    /// <summary>Each program waits for the file "go" beside it before it does what proves it.</summary>
    [Fact]
    public async Task Each_kind_of_proof_is_waited_for_and_kept_as_evidence()
    {
        await using var sentry = await Sentry.Start();
        var (tcp, http) = (Sentry.FreePort(), Sentry.FreePort());
        string Waits(string name, string then) =>
            sentry.Script(
                name,
                $"#!/bin/sh\nuntil [ -e {sentry.Places.Root.Quoted()}/go ]; do sleep 0.05; done\n{then}\nexec sleep 600\n"
            );
        var page = sentry.Script(
            "page.js",
            $$"""
            const { existsSync } = require("node:fs");
            require("node:http").createServer((_, answer) => existsSync("{{sentry.Places.Root}}/go") ? answer.end("the board is open") : answer.writeHead(503).end()).listen({{http}}, "127.0.0.1");
            """,
            executable: false
        );
        var marker = Path.Combine(sentry.Places.StateOf("by-file"), "ready");
        var kinds = new (string Name, string Proof, string[] Program, string Seen)[]
        {
            (
                "by-tcp",
                $"tcp:127.0.0.1:{tcp}",
                [Waits("tcp", $"exec memcached -l 127.0.0.1 -p {tcp}")],
                $"127.0.0.1:{tcp} accepts connections"
            ),
            (
                "by-http",
                $"http:http://127.0.0.1:{http}/,status=200,text=is open",
                [page],
                $"http://127.0.0.1:{http}/ answered 200 with 'is open' in it"
            ),
            (
                "by-output",
                "output:open since [0-9]+, quay",
                [Waits("output", "echo starting; echo open since 7, quay 2")],
                "it printed 'open since 7, quay 2'"
            ),
            ("by-file", $"file:{marker}", [Waits("file", $"touch {marker.Quoted()}")], $"it has written {marker}"),
            (
                "by-command",
                $"command:{sentry.Script("ask", $"#!/bin/sh\ntest -e {sentry.Places.Root.Quoted()}/go && id -un\n").Quoted()}",
                [Waits("command", "")],
                $"ask succeeded ('{Sentry.Account}')"
            ),
            (
                "by-told",
                "said",
                [Waits("said", "curl -s --unix-socket \"$CALM_SAY\" -d 'all quays open' http://calm/serves")],
                "it said so itself"
            ),
        };
        Directory.CreateDirectory(sentry.Places.StateOf("by-file"));
        await File.WriteAllTextAsync(marker, "of an earlier run");
        File.SetLastWriteTimeUtc(marker, DateTime.UtcNow.AddHours(-1));
        if (Environment.UserName == "root")
            await System
                .Diagnostics.Process.Start("chown", ["-R", Sentry.Account, sentry.Places.StateOf("by-file")])
                .WaitForExitAsync();
        foreach (var kind in kinds)
            await sentry.Wrap(kind.Name, ["--proof", kind.Proof, "--", .. kind.Program]);
        var asked = kinds.Select(kind => sentry.Calm("start", kind.Name)).ToList();
        foreach (var kind in kinds)
            await sentry.Until(
                kind.Name,
                view =>
                    State(view) == "starting"
                    && view.GetProperty("why").GetString()!.Contains("(so far: ", StringComparison.Ordinal)
            );
        await File.WriteAllTextAsync(Path.Combine(sentry.Places.Root, "go"), "");
        foreach (var (kind, answer) in kinds.Zip(asked))
        {
            var said = await answer;
            Assert.True(said.Exit == 0, said.All);
            Assert.Contains(kind.Seen, said.Output, StringComparison.Ordinal);
            var shown = await sentry.Show(kind.Name);
            Assert.EndsWith(
                kind.Seen,
                shown.GetProperty("proof").GetProperty("seen").GetString(),
                StringComparison.Ordinal
            );
            Assert.NotEqual(JsonValueKind.Null, shown.GetProperty("runs")[0].GetProperty("proven").ValueKind);
            Assert.DoesNotContain("(usually ", said.Output, StringComparison.Ordinal); // it is the first one
        }

        Assert.Equal("all quays open", (await sentry.Show("by-told")).GetProperty("said").GetString());
        await sentry.Ok("restart", "by-tcp");
        var proof = (await sentry.Show("by-tcp")).GetProperty("proof");
        Assert.True(proof.GetProperty("usual-ms").GetDouble() > 0);
        Assert.Contains("(usually ", (await sentry.Ok("logbook", "by-tcp")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_proof_that_does_not_come_is_a_failed_start_or_only_told()
    {
        await using var sentry = await Sentry.Start();
        var nobody = Sentry.FreePort();
        await sentry.Wrap(
            "dumb",
            "--proof",
            $"tcp:127.0.0.1:{nobody},within=300ms",
            "--hold-ends",
            "2",
            "--pause",
            "0s",
            "--",
            "/bin/sleep",
            "600"
        );
        var said = await sentry.Calm("start", "dumb");
        Assert.Equal(1, said.Exit);
        var held = await sentry.Until("dumb", view => State(view) == "held");
        Assert.Contains(
            $"was not ready within 300 ms of its launch (nothing accepts connections at 127.0.0.1:{nobody})",
            held.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        await Sentry.Eventually(async () =>
            (await sentry.Show("dumb")).GetProperty("runs")[0].GetProperty("outcome").GetString() == "not-proven"
        );
        Assert.Empty(sentry.Processes("dumb"));

        await sentry.Wrap(
            "slow",
            "--proof",
            $"tcp:127.0.0.1:{nobody},within=300ms,if-not=tell",
            "--",
            "/bin/sleep",
            "600"
        );
        Assert.Equal(1, (await sentry.Calm("start", "slow")).Exit);
        var slow = await sentry.Until("slow", view => view.GetProperty("health").GetString() == "poor");
        Assert.Equal("starting", State(slow));
        Assert.Single(sentry.Processes("slow"));

        // A wrong proof is put right while it waits for it: it is proven without another run.
        await sentry.Ok("adjust", "slow", "--proof", "up-for:0s");
        Assert.Equal(1, (await sentry.Until("slow", view => State(view) == "running")).GetProperty("run").GetInt64());
    }

    [Fact]
    public async Task A_server_killed_meanwhile_looks_for_the_proof_again()
    {
        await using var sentry = await Sentry.Start();
        var go = Path.Combine(sentry.Places.Root, "go");
        await sentry.Wrap(
            "board",
            "--proof",
            "output:^open$",
            "--",
            sentry.Script(
                "board",
                $"#!/bin/sh\necho shut\nuntil [ -e {go.Quoted()} ]; do sleep 0.05; done\necho open\nexec sleep 600\n"
            )
        );
        var asked = sentry.Calm("start", "board");
        var pid = (
            await sentry.Until(
                "board",
                view => State(view) == "starting" && view.GetProperty("pid").ValueKind == JsonValueKind.Number
            )
        )
            .GetProperty("pid")
            .GetInt32();
        await sentry.KillServer();
        await asked;
        await sentry.Serve();
        Assert.Equal("starting", State(await sentry.Show("board")));
        await File.WriteAllTextAsync(go, "");
        Assert.Equal(
            pid,
            (await sentry.Until("board", view => State(view) == "running")).GetProperty("pid").GetInt32()
        );
    }

    [Fact]
    public async Task Only_programs_of_the_sentry_may_say_something_and_only_for_themselves()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "board",
            "--proof",
            "said",
            "--start",
            "--",
            sentry.Script(
                "board",
                "#!/bin/sh\ncurl -s --unix-socket \"$CALM_SAY\" http://calm/serves\nwhile :; do\n  curl -s "
                    + "--unix-socket \"$CALM_SAY\" -d 'three ferries' http://calm/says\n  curl -s -w "
                    + "'%{http_code}\\n' --unix-socket \"$CALM_SAY\" http://calm/services\n  sleep 600\ndone\n"
            )
        );
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "600");
        await sentry.Until("board", view => view.GetProperty("said").GetString() == "three ferries");
        Assert.Equal(JsonValueKind.Null, (await sentry.Show("relay")).GetProperty("said").ValueKind);
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "board")).Output.Contains("404", StringComparison.Ordinal)
        );
        using var outside = System.Diagnostics.Process.Start(
            new System.Diagnostics.ProcessStartInfo(
                "curl",
                [
                    "-s",
                    "-o",
                    "/dev/null",
                    "-w",
                    "%{http_code}",
                    "--unix-socket",
                    sentry.Places.SayOf(await sentry.Id("board")),
                    "http://calm/serves",
                ]
            )
            {
                RedirectStandardOutput = true,
            }
        )!;
        Assert.Equal("403", await outside.StandardOutput.ReadToEndAsync());
    }

    private static string State(JsonElement view) => view.GetProperty("state").GetString()!;
}
