// Books every ticket sold at the quay. A sale is answered at once and written down when the day is closed:
// told "close-day" on its second port, or asked to end (TERM), it first writes its day file. Cut short, it loses the
// sales.
using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;

var sales = int.Parse(
    Environment.GetEnvironmentVariable("LEDGER_PORT") ?? "7411",
    System.Globalization.CultureInfo.InvariantCulture
);
var book = args.Length > 0 ? args[0] : "day.book";
var open = new List<string>();
var closing = new TaskCompletionSource<string>();

using var term = PosixSignalRegistration.Create(
    PosixSignal.SIGTERM,
    context =>
    {
        context.Cancel = true;
        closing.TrySetResult("asked to end");
    }
);
_ = Listen(
    sales,
    line =>
    {
        lock (open)
        {
            open.Add(line);
            return $"booked {open.Count}";
        }
    }
);
_ = Listen(
    sales + 1,
    line => line == "close-day" && closing.TrySetResult("told to close the day") ? "closing" : "unknown word"
);
Console.WriteLine($"fare ledger open on port {sales}; the day is closed by 'close-day' on port {sales + 1}");

var why = await closing.Task;
Console.WriteLine($"{why}: writing {open.Count} sales into {book}");
foreach (var sale in open)
{
    await File.AppendAllTextAsync(book, sale + "\n");
    await Task.Delay(100); // a careful hand
}

Console.WriteLine("the books are closed");

static async Task Listen(int port, Func<string, string> answer)
{
    using var listener = new TcpListener(IPAddress.Loopback, port);
    listener.Start();
    while (true)
    {
        var client = await listener.AcceptTcpClientAsync();
        _ = Task.Run(async () =>
        {
            using (client)
            using (var reader = new StreamReader(client.GetStream()))
            await using (var writer = new StreamWriter(client.GetStream()) { AutoFlush = true })
                while (await reader.ReadLineAsync() is { } line)
                    await writer.WriteLineAsync(answer(line));
        });
    }
}
