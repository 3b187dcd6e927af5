using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// Connections by the thousand, slow ones and endless ones: the sentry goes on answering, and no service is blamed for
/// it.
/// </summary>
[Needs("perl")]
public class CrowdTests
{
    public CrowdTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    /// <summary>
    /// Opens connections to a Unix socket or a port and holds them; says how many were let in, then waits.
    /// </summary>
    private const string Holds = """
        use IO::Socket::UNIX; use IO::Socket::INET; use IO::Select; $| = 1;
        my ($where, $count, $say) = @ARGV; my @held;
        for (1 .. $count) {
          my $c = $where =~ /^\d+$/ ? IO::Socket::INET->new(PeerAddr => "127.0.0.1", PeerPort => $where, Timeout => 5) : IO::Socket::UNIX->new(Peer => $where);
          next unless $c;
          syswrite $c, $say if length $say;
          push @held, $c;
        }
        select undef, undef, undef, 1;
        my $in = 0;
        for my $c (@held) { my $s = IO::Select->new($c); next if $s->can_read(0); $in++ }
        print "in: $in\n";
        sleep 600;
        """;

    [Theory]
    [InlineData("socket", "")]
    [InlineData("socket", "GET /api/services HTTP/1.1\r\nHost: sentry\r\nX-Slow: ")]
    [InlineData("port", "")]
    [InlineData("port", "GET / HTTP/1.1\r\nHost: localhost\r\nX-Slow: ")]
    public async Task One_account_holds_so_many_connections_and_no_more(string door, string say)
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide",
            "--watch",
            $"tcp:127.0.0.1:{await Port(sentry)},beat=1s,patience=1,follows=restart",
            "--proof",
            "up-for:0s",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        var pid = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        using var crowd = Sentry.Began(
            "daemon",
            "perl",
            "-e",
            Holds,
            door == "socket" ? sentry.Places.ApiSocket : $"{await Port(sentry)}",
            "2000",
            say
        );
        try
        {
            var let = await crowd.StandardOutput.ReadLineAsync().InTime();
            Assert.InRange(int.Parse(let!.Split(' ')[1]), 1, 64);
            Assert.Equal(0, (await sentry.Calm("list")).Exit);
            Assert.True(
                Directory.GetFiles($"/proc/{sentry.ServerPid}/fd").Length < 400,
                "descriptors are held by connections that were refused"
            );
            // Who has no room is told so, in words, at once.
            var refused = await Sentry.As(
                "daemon",
                [
                    "curl",
                    "-s",
                    .. door == "socket" ? ["--unix-socket", sentry.Places.ApiSocket] : Array.Empty<string>(),
                    door == "socket" ? "http://sentry/" : $"http://127.0.0.1:{await Port(sentry)}/",
                ]
            );
            Assert.Contains("too-many-connections", refused.Output, StringComparison.Ordinal);
        }
        finally
        {
            await Sentry.End(crowd);
        }

        // Its watch asked through the crowd; whatever it met there, the program was not blamed.
        Assert.Equal(pid, (await sentry.Show("tide")).GetProperty("pid").GetInt32());
        Assert.DoesNotContain("restart", (await sentry.Ok("logbook", "tide")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_sentry_out_of_descriptors_blames_no_program()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide",
            "--watch",
            $"tcp:127.0.0.1:{await Port(sentry)},beat=1s,patience=1,follows=restart",
            "--watch",
            "command:/bin/true,beat=1s,patience=1,follows=restart",
            "--proof",
            "output:^open",
            "--start",
            "--",
            sentry.Script("tide", "#!/bin/sh\necho open\nwhile :; do printf . >>\"$CALM_STATE\"/beats; sleep 1; done\n")
        );
        var pid = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        // As many as it has open, and none to come.
        var open = Directory.GetFiles($"/proc/{sentry.ServerPid}/fd").Length;
        Process.Start("prlimit", ["--pid", $"{sentry.ServerPid}", $"--nofile={open}:"]).WaitForExit();
        // Three beats of its watches, as the program itself counts them: the sentry cannot be asked meanwhile.
        var beats = Path.Combine(sentry.Places.StateOf("tide"), "beats");
        var before = new FileInfo(beats).Length;
        await Sentry.Eventually(() => new FileInfo(beats).Length >= before + 3);
        Process.Start("prlimit", ["--pid", $"{sentry.ServerPid}", "--nofile=4096:"]).WaitForExit();
        await Sentry.Eventually(async () => (await sentry.Calm("list")).Exit == 0);
        Assert.True(
            (await sentry.Show("tide")).GetProperty("pid").ToString() == $"{pid}",
            (await sentry.Ok("logbook", "tide")).Output
        );
        Assert.Equal("running", (await sentry.Show("tide")).GetProperty("state").GetString());
        Assert.DoesNotContain("no account", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Endless_and_huge_bodies_are_refused_while_they_come()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "tide",
            "--proof",
            "said",
            "--recover",
            "never",
            "--",
            sentry.Script(
                "tide",
                """
                #!/bin/sh
                for i in 1 2 3 4 5 6 7 8; do head -c 30000000 /dev/zero | curl -s -o /dev/null -w '%{http_code}\n' --unix-socket "$CALM_SAY" -H 'Expect:' -H 'Content-Type: text/plain' --data-binary @- http://calm/says & done
                wait
                curl -s --unix-socket "$CALM_SAY" http://calm/serves
                exec sleep 600
                """
            )
        );
        await sentry.Ok("start", "tide");
        var codes = (await sentry.Ok("output", "tide"))
            .Output.Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Where(line => line != "Heard.")
            .ToList();
        Assert.Equal(8, codes.Count);
        Assert.All(codes, code => Assert.True(code is "413" or "000", code));
        // A definition without an end, sent by root itself, in chunks.
        using var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
        await socket.ConnectAsync(new UnixDomainSocketEndPoint(sentry.Places.ApiSocket));
        await socket.SendAsync(
            Encoding.ASCII.GetBytes(
                "POST /api/check HTTP/1.1\r\nHost: sentry\r\nContent-Type: application/yaml\r\nTransfer-Encoding: "
                    + "chunked\r\n\r\n"
            )
        );
        var chunk = Encoding.ASCII.GetBytes("10000\r\n" + new string('#', 0x10000) + "\r\n");
        var sent = 0L;
        try
        {
            while (sent < 64 << 20 && socket.Available == 0)
                sent += await socket.SendAsync(chunk);
        }
        catch (SocketException)
        {
            // It hung up.
        }

        Assert.InRange(sent, 1, 8 << 20);
        Assert.Equal(0, (await sentry.Calm("list")).Exit);
    }

    [Fact]
    public async Task While_the_server_is_away_nobody_gets_the_consoles_port_and_who_connects_is_answered_later()
    {
        await using var sentry = await Sentry.StartGuarded();
        var port = await Port(sentry);
        using var thief = Sentry.Began(
            "daemon",
            "perl",
            "-MIO::Socket::INET",
            "-e",
            "$| = 1; print \"tries\\n\"; while (1) { my $s = IO::Socket::INET->new(LocalAddr => '127.0.0.1', "
                + "LocalPort => $ARGV[0], Listen => 5, ReuseAddr => 1); if ($s) { print \"got it\\n\"; sleep 600 } }",
            $"{port}"
        );
        try
        {
            Assert.Equal("tries", await thief.StandardOutput.ReadLineAsync());
            var more = thief.StandardOutput.ReadLineAsync();
            for (var i = 0; i < 5; i++)
            {
                var server = await sentry.Server();
                Sentry.Kill(server, "STOP"); // it answers nobody: what is sent now waits
                using var browser = new HttpClient();
                var page = browser.GetAsync($"http://127.0.0.1:{port}/anything");
                Sentry.Kill(server);
                await Sentry.Eventually(async () => await sentry.Server() is var next && next != 0 && next != server);
                Assert.Equal(port, await Port(sentry));
                using var late = await new HttpClient().GetAsync($"http://127.0.0.1:{port}/anything");
                Assert.Equal(HttpStatusCode.OK, late.StatusCode);
                await page.ContinueWith(_ => { }, TaskScheduler.Default); // taken by the server that was killed, or by the next
                Assert.False(more.IsCompleted, "a stranger took the console's port");
            }
        }
        finally
        {
            await Sentry.End(thief);
        }
    }

    private static async Task<int> Port(Sentry sentry) =>
        int.Parse((await File.ReadAllTextAsync(sentry.Places.PortFile)).Trim());
}
