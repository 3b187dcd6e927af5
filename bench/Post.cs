using System.Diagnostics;
using System.Net;
using System.Net.Sockets;
using System.Text;
using System.Threading.Channels;

namespace CalmSentry.Bench;

/// <summary>A mail server that takes everything, and a client that says no more than it must (RFC 5321).</summary>
internal sealed class Post : IDisposable
{
    private readonly TcpListener listener = new(IPAddress.Loopback, 0);
    private readonly Channel<(long At, int Length)> taken = Channel.CreateUnbounded<(long, int)>();

    public Post()
    {
        listener.Start();
        _ = Task.Run(async () =>
        {
            while (true)
                _ = Take(await listener.AcceptTcpClientAsync());
        });
    }

    public int Port => ((IPEndPoint)listener.LocalEndpoint).Port;

    /// <summary>When the next mail was there (Stopwatch), and its length.</summary>
    public ValueTask<(long At, int Length)> Next() => taken.Reader.ReadAsync();

    private async Task Take(TcpClient line)
    {
        using (line)
        {
            line.NoDelay = true;
            var stream = line.GetStream();
            using var reader = new StreamReader(stream, Encoding.Latin1);
            await Say("220 bench");
            while (await reader.ReadLineAsync() is { } word)
            {
                if (word.StartsWith("QUIT", StringComparison.OrdinalIgnoreCase))
                {
                    await Say("221 bye");
                    return;
                }

                if (!word.StartsWith("DATA", StringComparison.OrdinalIgnoreCase))
                {
                    await Say("250 fine");
                    continue;
                }

                await Say("354 go on");
                var length = 0;
                while (await reader.ReadLineAsync() is { } text && text != ".")
                    length += text.Length + 2;
                taken.Writer.TryWrite((Stopwatch.GetTimestamp(), length));
                await Say("250 taken");
            }

            async Task Say(string text) => await stream.WriteAsync(Encoding.ASCII.GetBytes(text + "\r\n"));
        }
    }

    /// <summary>A mail of so many bytes, from nothing to the moment in which it is there.</summary>
    public async Task<TimeSpan> RoundTrip(int length)
    {
        var began = Stopwatch.GetTimestamp();
        using var line = new TcpClient { NoDelay = true };
        await line.ConnectAsync(IPAddress.Loopback, Port);
        var stream = line.GetStream();
        using var reader = new StreamReader(stream, Encoding.Latin1);
        var body = string.Concat(Enumerable.Repeat(new string('x', 70) + "\r\n", length / 72));
        await reader.ReadLineAsync();
        foreach (
            var word in (string[])["EHLO bench", "MAIL FROM:<a@bench>", "RCPT TO:<b@bench>", "DATA", body + ".", "QUIT"]
        )
        {
            await stream.WriteAsync(Encoding.ASCII.GetBytes(word + "\r\n"));
            await reader.ReadLineAsync();
        }

        return Stopwatch.GetElapsedTime(began, (await Next()).At);
    }

    public void Dispose() => listener.Dispose();
}
