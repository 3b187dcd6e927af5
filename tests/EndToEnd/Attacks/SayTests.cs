using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>Speaking for another service, and speaking without end.</summary>
public class TellTests
{
    public TellTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    [Fact]
    public async Task Only_a_services_own_processes_speak_for_it()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Ok("account", "permit", "daemon");
        await sentry.Wrap("board", "--start", "--", "/bin/sleep", "600");
        var socket = sentry.Places.SayOf(await sentry.Id("board"));
        var says =
            $"curl -s -o /dev/null -w '%{{http_code}} ' --unix-socket {socket.Quoted()} -d 'all is lost' http://calm/says";
        // The same account outside; another account; root; another service of the same account; one of another account.
        Assert.Equal("403 ", (await Sentry.As("nobody", "sh", "-c", says)).Output);
        Assert.Equal("000 ", (await Sentry.As("daemon", "sh", "-c", says)).Output);
        using (var root = Process.Start(new ProcessStartInfo("sh", ["-c", says]) { RedirectStandardOutput = true })!)
            Assert.Equal("403 ", await root.StandardOutput.ReadToEndAsync());
        foreach (var (name, account, code) in new[] { ("relay", "nobody", "403"), ("lamps", "daemon", "000") })
        {
            await sentry.Ok(
                "wrap",
                name,
                "--account",
                account,
                "--recover",
                "never",
                "--proof",
                "output:^said",
                "--start",
                "--",
                sentry.Script(name, $"#!/bin/sh\n{says}\necho\necho said\nexec sleep 600\n")
            );
            Assert.Contains(code, (await sentry.Ok("output", name)).Output, StringComparison.Ordinal);
        }

        Assert.Equal(System.Text.Json.JsonValueKind.Null, (await sentry.Show("board")).GetProperty("said").ValueKind);
        Assert.Equal("65534 600", await Stat(socket));
        Assert.Equal("0 711", await Stat(Path.GetDirectoryName(socket)!));
    }

    [Fact]
    public async Task A_flood_is_cut_to_a_rate_and_said_once()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "board",
            "--recover",
            "never",
            "--proof",
            "output:^429",
            "--",
            sentry.Script(
                "board",
                """
                #!/bin/sh
                i=0; while [ $i -lt 400 ]; do echo 'url = "http://calm/well"'; echo 'output = /dev/null'; i=$((i+1)); done >"$CALM_STATE"/flood
                curl -s -w '%{http_code}\n' --unix-socket "$CALM_SAY" -K "$CALM_STATE"/flood
                exec sleep 600
                """
            )
        );
        await sentry.Ok("start", "board");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook", "board")).Output.Contains(
                "speaks of itself more than 20 times a second",
                StringComparison.Ordinal
            )
        );
        Assert.Single(
            (await sentry.Ok("logbook", "board")).Output.Split('\n'),
            line => line.Contains("speaks of itself more than", StringComparison.Ordinal)
        );
        Assert.Equal("running", (await sentry.Show("board")).GetProperty("state").GetString());
    }

    private static async Task<string> Stat(string path)
    {
        using var process = Process.Start(
            new ProcessStartInfo("stat", ["-c", "%u %a", path]) { RedirectStandardOutput = true }
        )!;
        return (await process.StandardOutput.ReadToEndAsync()).Trim();
    }
}
