using System.Net.Sockets;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Daemons of other people, from the host's packages, wrapped as they are.</summary>
[Needs("memcached", "redis-server")]
public class DaemonTests
{
    private static string Usual(string name) => $"/usr/bin/{name}";

    [Theory]
    [InlineData("memcached", "version", "VERSION ")]
    [InlineData("redis-server", "PING", "+PONG")]
    public async Task A_daemon_serves_comes_back_after_a_kill_and_stops_cleanly(
        string daemon,
        string question,
        string answer
    )
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        string[] arguments =
            daemon == "memcached"
                ? ["-l", "127.0.0.1", "-p", $"{port}", "-U", "0"]
                : ["--bind", "127.0.0.1", "--port", $"{port}", "--save", ""];
        await sentry.Wrap("Quay store", ["--", Usual(daemon), .. arguments]);
        var started = await sentry.Ok("start", "quay-store");
        Assert.Contains($"as {Sentry.Account}", started.Output, StringComparison.Ordinal);
        Assert.Contains($"{port}", started.Output, StringComparison.Ordinal); // the real command line
        Assert.StartsWith(answer, await Sentry.Talk(port, question), StringComparison.Ordinal);

        var first = (await sentry.Show("quay-store")).GetProperty("pid").GetInt32();
        Sentry.Kill(first);
        var back = await sentry.Until(
            "quay-store",
            view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == 2
        );
        Assert.NotEqual(first, back.GetProperty("pid").GetInt32());
        Assert.Contains("KILL", back.GetProperty("why").GetString(), StringComparison.Ordinal);
        Assert.StartsWith(answer, await Sentry.Talk(port, question), StringComparison.Ordinal);

        var stopped = await sentry.Ok("stop", "Quay store");
        Assert.DoesNotContain("was killed", stopped.Output, StringComparison.Ordinal);
        Assert.Empty(sentry.Processes("quay-store"));
        await Assert.ThrowsAsync<SocketException>(() => Sentry.Talk(port, question));
    }

    [Fact]
    public async Task The_server_killed_and_back_the_daemon_and_its_client_never_notice()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "tide-store",
            "--start",
            "--",
            Usual("redis-server"),
            "--bind",
            "127.0.0.1",
            "--port",
            $"{port}",
            "--save",
            ""
        );
        var before = await sentry.Show("tide-store");
        using var client = new TcpClient();
        await client.ConnectAsync("127.0.0.1", port);
        using var reader = new StreamReader(client.GetStream());
        for (var crash = 0; crash < 3; crash++)
        {
            await sentry.KillServer();
            await client.GetStream().WriteAsync("INCR tide\r\n"u8.ToArray());
            Assert.Equal($":{(crash * 2) + 1}", await reader.ReadLineAsync());
            var lost = await sentry.Calm("list");
            Assert.Equal(5, lost.Exit);
            Assert.Contains("calm-sentry serve", lost.Error, StringComparison.Ordinal);
            await sentry.Serve();
            await client.GetStream().WriteAsync("INCR tide\r\n"u8.ToArray());
            Assert.Equal($":{(crash * 2) + 2}", await reader.ReadLineAsync());
        }

        var after = await sentry.Show("tide-store");
        foreach (var key in new[] { "pid", "run", "state", "restarts" })
            Assert.Equal(before.GetProperty(key).ToString(), after.GetProperty(key).ToString());
        Assert.Contains("taken up again", (await sentry.Ok("logbook", "tide-store")).Output, StringComparison.Ordinal);
    }
}
