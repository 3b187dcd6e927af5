using System.Net;
using System.Net.Sockets;
using System.Text;

namespace CalmSentry.Tests.EndToEnd.Telling;

/// <summary>What is at the other end of a line may say more than is asked for: nothing is sent twice for it, and nobody listens without end.</summary>
public class TalkTests
{
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task A_mail_that_was_taken_is_not_sent_again_whatever_its_server_says_then(bool withinItsAnswer)
    {
        await using var sentry = await Sentry.Start();
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        var port = ((IPEndPoint)listener.LocalEndpoint).Port;
        await TellTests.Set(
            sentry,
            $"mail: {{ server: 127.0.0.1:{port}, security: none, from: s@q.example }}\ntell:\n  - {{ mail: office@skerry.example, name: quay-office }}\n"
        );
        await TellTests.Known(sentry, "quay-office");
        await TellTests.Faulty(sentry);
        await sentry.Calm("start", "fare-ledger");
        using var line = await listener.AcceptTcpClientAsync().InTime();
        await Take(line.GetStream(), withinItsAnswer ? "250-taken as 4711\r\n" : "250 taken as 4711\r\n");
        try
        {
            while (true)
                await line.GetStream().WriteAsync(Encoding.ASCII.GetBytes($"250-{new string('x', 1000)}\r\n"));
        }
        catch (IOException)
        {
            // It has heard enough.
        }

        await Sentry.Eventually(async () => await TellTests.StateOf(sentry, 1) == "delivered");
        // The next one that comes is another mail.
        using var trial = sentry.Open("tell", "--test", "quay-office");
        using var next = await listener.AcceptTcpClientAsync().InTime();
        Assert.Contains("trial", await Take(next.GetStream(), "250 taken\r\n"), StringComparison.OrdinalIgnoreCase);
        // It says nothing to QUIT, and costs nobody more than a moment.
        await trial.WaitForExitAsync().InTime();
        Assert.Equal(0, trial.ExitCode);
    }

    /// <summary>Says what a server says, up to the answer to a mail (RFC 5321); returns the mail.</summary>
    private static async Task<string> Take(NetworkStream stream, string answer)
    {
        async Task Say(string text) => await stream.WriteAsync(Encoding.ASCII.GetBytes(text));
        var reader = new StreamReader(stream, Encoding.UTF8);
        await Say("220 quay.skerry.example\r\n");
        var mail = new StringBuilder();
        while (await reader.ReadLineAsync().InTime() is { } line)
        {
            if (line != "DATA")
            {
                await Say("250 so be it\r\n");
                continue;
            }

            await Say("354 go on\r\n");
            while (await reader.ReadLineAsync().InTime() is { } content && content != ".")
                mail.AppendLine(content);
            await Say(answer);
            return mail.ToString();
        }

        return mail.ToString();
    }

    [Fact]
    public async Task A_collector_that_talks_is_listened_to_for_a_while_and_dropped()
    {
        await using var sentry = await Sentry.Start();
        await sentry.EndServer();
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        await TellTests.Set(sentry, $"forward: [ {{ tcp: 127.0.0.1:{((IPEndPoint)listener.LocalEndpoint).Port} }} ]\n");
        await sentry.Serve();
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        using var line = await listener.AcceptTcpClientAsync().InTime();
        var said = 0L;
        try
        {
            for (var room = new byte[4096]; ; said += room.Length)
                await line.GetStream().WriteAsync(room);
        }
        catch (IOException)
        {
            Assert.InRange(said, 64 << 10, 20_000_000); // what is on its way fits into the buffers of both ends
        }

        await Sentry.Eventually(async () =>
            (await sentry.Ok("host", "status")).Output.Contains("sends data, which none does", StringComparison.Ordinal)
        );
    }
}
