using System.Globalization;
using System.Net.Sockets;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// The fare ledger of the demo, a program that takes 20 s to close its books and loses what it had not written when it
/// is cut short.
/// </summary>
public class LedgerTests
{
    private const int Sales = 200;

    private static string Book(Sentry sentry, string name) => Path.Combine(sentry.Places.StateOf(name), "day.book");

    private static int TwoPorts()
    {
        while (true)
        {
            var port = Sentry.FreePort();
            try
            {
                using var next = new TcpListener(System.Net.IPAddress.Loopback, port + 1);
                next.Start();
                return port;
            }
            catch (SocketException)
            {
                // The next one is taken: another pair.
            }
        }
    }

    private static async Task<int> Open(Sentry sentry, string name, params string[] more)
    {
        var port = TwoPorts();
        await sentry.Wrap(
            name,
            [
                "--at",
                "boot",
                "--environment",
                $"LEDGER_PORT={port}",
                "--proof",
                $"tcp:127.0.0.1:{port}",
                .. more.Select(word => word.Replace("PORT", $"{port + 1}", StringComparison.Ordinal)),
                "--",
                Path.Combine(Path.GetDirectoryName(sentry.Program("calm"))!, "demo", "fare-ledger"),
                Book(sentry, name),
            ]
        );
        await sentry.Ok("start", name);
        return port;
    }

    private static async Task<List<string>> Sell(int port, string day, int count = Sales)
    {
        using var client = new TcpClient();
        await client.ConnectAsync("127.0.0.1", port);
        using var reader = new StreamReader(client.GetStream());
        await using var writer = new StreamWriter(client.GetStream()) { AutoFlush = true };
        var sold = Enumerable.Range(1, count).Select(i => $"{day} ticket {i}").ToList();
        for (var i = 0; i < count; i++)
        {
            await writer.WriteLineAsync(sold[i]);
            Assert.Equal(string.Create(CultureInfo.InvariantCulture, $"booked {i + 1}"), await reader.ReadLineAsync());
        }

        return sold;
    }

    [Fact]
    public async Task No_record_is_lost_on_stop_restart_drill_or_shutdown()
    {
        await using var sentry = await Sentry.StartGuarded();
        string[] windDown =
        [
            "--wind-down",
            "send:close-day\\n,to=tcp 127.0.0.1:PORT,wait=150s",
            "--wind-down",
            "TERM 30s",
        ];
        // With the very steps, and with a signal alone that is waited for long enough.
        var (first, second) = (
            await Open(sentry, "ledger", windDown),
            await Open(sentry, "ledger-two", "--wind-down", "TERM 60s")
        );
        var (one, two) = (await Sell(first, "monday"), await Sell(second, "monday"));

        var stop = sentry.Calm("stop", "ledger");
        var restart = sentry.Calm("restart", "ledger-two");
        Assert.Contains("it said 'closing'", (await stop).Output, StringComparison.Ordinal);
        Assert.Equal(0, (await restart).Exit);
        Assert.Equal(one, await File.ReadAllLinesAsync(Book(sentry, "ledger")));
        Assert.Equal(two, await File.ReadAllLinesAsync(Book(sentry, "ledger-two")));

        await sentry.Ok("start", "ledger");
        (one, two) = ([.. one, .. await Sell(first, "tuesday")], [.. two, .. await Sell(second, "tuesday")]);
        await sentry.Ok("drill", "--yes");
        Assert.Equal(one, await File.ReadAllLinesAsync(Book(sentry, "ledger")));
        Assert.Equal(two, await File.ReadAllLinesAsync(Book(sentry, "ledger-two")));

        (one, two) = ([.. one, .. await Sell(first, "wednesday")], [.. two, .. await Sell(second, "wednesday")]);
        await sentry.Ok("host", "wind-down"); // as the boot script does when the machine goes down
        Assert.Equal(one, await File.ReadAllLinesAsync(Book(sentry, "ledger")));
        Assert.Equal(two, await File.ReadAllLinesAsync(Book(sentry, "ledger-two")));
        Assert.All(
            (await sentry.Ok("runs", "ledger", "--json"))
                .Json.EnumerateArray()
                .Where(run => run.GetProperty("outcome").ValueKind == System.Text.Json.JsonValueKind.String),
            run => Assert.False(run.GetProperty("forced").GetBoolean())
        );
    }

    [Fact]
    public async Task Cut_short_it_loses_records_and_the_finding_says_so_beforehand_the_next_time()
    {
        await using var sentry = await Sentry.Start();
        var port = await Open(sentry, "ledger", "--wind-down", "TERM 300ms");
        var sold = await Sell(port, "monday", 20);
        Assert.Contains("wind-down-short", (await sentry.Ok("stop", "ledger")).Output, StringComparison.Ordinal);
        Assert.True((await File.ReadAllLinesAsync(Book(sentry, "ledger"))).Length < sold.Count);
        Assert.Contains(
            "was killed: its wind-down waits 300 ms in all",
            (await sentry.Calm("check", "ledger")).Output,
            StringComparison.Ordinal
        );
    }
}
