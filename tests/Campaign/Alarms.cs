using System.Collections.Concurrent;
using System.Net;
using System.Text.RegularExpressions;

namespace CalmSentry.Tests.Campaign;

/// <summary>
/// Services that fall for good, each once, and a receiver that is to hear of each in time, and fails itself now and then. Time counts
/// while the sentry answers and the receiver takes what it is sent.
/// </summary>
internal sealed partial class Alarms : IAsyncDisposable
{
    private const string Prefix = "alarm-";

    /// <summary>An urgent alert is handed to its way within this (docs/being-told.md).</summary>
    private static readonly TimeSpan Promised = TimeSpan.FromSeconds(10);

    /// <summary>From a fall to its entry, for what else is in force just then.</summary>
    private static readonly TimeSpan ToEntry = TimeSpan.FromSeconds(5);

    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(100),
        LongestGap = TimeSpan.FromSeconds(1),
        LongestWait = TimeSpan.FromMinutes(2);

    private readonly Machine machine;
    private readonly HttpListener receiver = new();
    private readonly HttpClient asker;
    private readonly CancellationTokenSource over = new();
    private readonly ConcurrentDictionary<string, DateTime> heard = [];
    private readonly ConcurrentDictionary<string, int> ids = [];
    private readonly Lock guard = new();
    private readonly List<(DateTime At, TimeSpan Good)> pulse = [(DateTime.UtcNow, TimeSpan.Zero)];
    private readonly List<string> pending = [];
    private readonly List<TimeSpan> took = [];
    private readonly List<Task> loops = [];
    private int last,
        failing;

    public Alarms(Machine machine)
    {
        this.machine = machine;
        var address = Listen();
        Directory.CreateDirectory(Path.GetDirectoryName(machine.Places.Settings)!);
        File.WriteAllText(
            machine.Places.Settings,
            $"tell: [{{ webhook: {address}, name: quay-office, urgent-only: true }}]\n"
                + "alerts: { gather: 1 s, most-an-hour: 1000 }\n"
        );
        asker = machine.Http(LongestGap);
    }

    /// <summary>In words: how many there were, and how long the slowest took.</summary>
    public string Told =>
        took.Count == 0
            ? "none fell for good"
            : $"{took.Count} fell for good, and each was told: median {took.Order().ElementAt(took.Count / 2).TotalSeconds:0.0} s, longest "
                + $"{took.Max().TotalSeconds:0.0} s in which it could be; {ids.Count} messages, {ids.Values.Sum() - ids.Count} of them once more";

    private string Listen()
    {
        for (var port = 28_400; ; port++)
            try
            {
                var address = $"http://127.0.0.1:{port}/";
                receiver.Prefixes.Clear();
                receiver.Prefixes.Add(address);
                receiver.Start();
                return address;
            }
            catch (HttpListenerException) when (port < 28_500)
            {
                // Somebody else is there.
            }
    }

    public void Begin()
    {
        loops.Add(Receive());
        loops.Add(Watch());
    }

    /// <summary>One more service, which falls for good as soon as it is started.</summary>
    public async Task Fall()
    {
        var name = $"{Prefix}{++last}";
        lock (guard)
            pending.Add(name);
        var file = Path.Combine(machine.Places.Root, name + ".yaml");
        await File.WriteAllTextAsync(
                file,
                $$"""
                name: {{name}}
                program: { path: /bin/sh, arguments: [-c, 'echo fell >>"$0"; exit 3', '{{Fallen(name).Replace(
                    "'",
                    "''",
                    StringComparison.Ordinal
                )}}'] }
                identity: { account: {{machine.Account}} }
                begin: { at: request, proof: { up-for: 0 s } }
                recover: { codes: { 3: hold } }
                """
            )
            .ConfigureAwait(false);
        // Other faults are in force meanwhile: what is refused for them is asked again.
        const int most = 20;
        for (var tries = 0; tries < most && !File.Exists(Fallen(name)); tries++)
        {
            await machine.Calm("wrap", "--from", file).ConfigureAwait(false);
            await machine.Calm("start", name).ConfigureAwait(false);
            await Task.Delay(Beat).ConfigureAwait(false);
        }
    }

    private string Fallen(string name) => Path.Combine(machine.Witness, name);

    /// <summary>The receiver takes nothing, and says so.</summary>
    public void BeginFailing() => Interlocked.Increment(ref failing);

    public void EndFailing() => Interlocked.Decrement(ref failing);

    /// <summary>Waits until of each that fell it was told, or it was not in time; then none of them is there any more.</summary>
    /// <param name="since">Nothing was frozen after this.</param>
    /// <param name="forgotten">An older store was put back, which may not know of them.</param>
    public async Task<IReadOnlyList<string>> Look(DateTime since, bool forgotten)
    {
        var broken = new List<string>();
        var fell = pending.Where(name => File.Exists(Fallen(name))).ToList();
        pending.Clear();
        if (!forgotten)
            foreach (var name in fell)
                if (await Late(name, since).ConfigureAwait(false) is { } why)
                    broken.Add(why);
        await Remove(broken).ConfigureAwait(false);
        return broken;
    }

    private async Task<string?> Late(string name, DateTime since)
    {
        var began = DateTime.UtcNow;
        while (true)
        {
            var at = File.GetLastWriteTimeUtc(Fallen(name)); // the last time: one whose end nobody saw falls once more
            var from = at > since ? at : since;
            var isHeard = heard.TryGetValue(name, out var then);
            var good = GoodUntil(isHeard ? then : DateTime.UtcNow) - GoodUntil(from);
            if (isHeard)
                took.Add(GoodUntil(then) - GoodUntil(at));
            if (good > Promised + ToEntry || (!isHeard && DateTime.UtcNow - began > LongestWait))
                return $"{name} fell at {at:HH:mm:ss.fff}, and was {(isHeard ? "told after" : "not told in")} {good.TotalSeconds:0.0} s in which "
                    + "the sentry served and the receiver took what it got";
            if (isHeard)
                return null;
            await Task.Delay(Beat).ConfigureAwait(false);
        }
    }

    private async Task Remove(List<string> broken)
    {
        for (var began = DateTime.UtcNow; ; await Task.Delay(Beat).ConfigureAwait(false))
        {
            if (await machine.List().ConfigureAwait(false) is { } views)
            {
                var left = views
                    .Select(view => view.GetProperty("name").GetString()!)
                    .Where(name => name.StartsWith(Prefix, StringComparison.Ordinal))
                    .ToList();
                if (left.Count == 0)
                    return;
                foreach (var name in left)
                    await machine.Calm("unwrap", name, "--yes", "--with-output").ConfigureAwait(false);
            }

            if (DateTime.UtcNow - began > LongestWait)
            {
                broken.Add("services that fell for good cannot be removed");
                return;
            }
        }
    }

    /// <summary>How much time counted until then.</summary>
    private TimeSpan GoodUntil(DateTime then)
    {
        lock (guard)
        {
            var after = pulse.FindIndex(one => one.At >= then);
            return after < 0 ? pulse[^1].Good : pulse[after].Good;
        }
    }

    private async Task Watch()
    {
        const int most = 100_000;
        var wasGood = false;
        while (!over.IsCancellationRequested)
        {
            var isGood = false;
            try
            {
                using var answer = await asker.GetAsync("/api/sentry", over.Token).ConfigureAwait(false);
                isGood = answer.IsSuccessStatusCode && Volatile.Read(ref failing) == 0;
            }
            catch (Exception error) when (error is HttpRequestException or OperationCanceledException)
            {
                // It does not serve.
            }

            lock (guard)
            {
                var (at, good) = pulse[^1];
                var gap = DateTime.UtcNow - at;
                pulse.Add((DateTime.UtcNow, isGood && wasGood && gap <= LongestGap ? good + gap : good));
                if (pulse.Count > most)
                    pulse.RemoveRange(0, most / 2);
            }

            wasGood = isGood;
            await Task.Delay(Beat).ConfigureAwait(false);
        }
    }

    private async Task Receive()
    {
        while (!over.IsCancellationRequested)
            try
            {
                var asked = await receiver.GetContextAsync().ConfigureAwait(false);
                _ = Take(asked);
            }
            catch (Exception) when (over.IsCancellationRequested)
            {
                return;
            }
            catch (HttpListenerException)
            {
                // It hung up.
            }
    }

    private async Task Take(HttpListenerContext asked)
    {
        try
        {
            using var reader = new StreamReader(asked.Request.InputStream);
            var text = await reader.ReadToEndAsync().ConfigureAwait(false);
            if (Volatile.Read(ref failing) != 0)
                asked.Response.StatusCode = ids.Count % 2 == 0 ? 503 : 500;
            else
            {
                foreach (Match name in Name().Matches(text))
                    heard.TryAdd(name.Value, DateTime.UtcNow);
                ids.AddOrUpdate(Id().Match(text).Value, 1, (_, times) => times + 1);
            }

            asked.Response.Close();
        }
        catch (Exception error) when (error is HttpListenerException or IOException or ObjectDisposedException)
        {
            // Whoever told was killed just then.
        }
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync().ConfigureAwait(false);
        receiver.Close();
        await Task.WhenAll(loops).ConfigureAwait(false);
        asker.Dispose();
        over.Dispose();
    }

    [GeneratedRegex(Prefix + @"\d+")]
    private static partial Regex Name();

    [GeneratedRegex("\"id\":\"[^\"]*\"")]
    private static partial Regex Id();
}
