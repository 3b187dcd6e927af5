// Measures the sentry beside its floors, in one run on one machine, and prints a Markdown table.
// Of every time: the median, the 99th percentile where there are a hundred of them, and the worst. "Ratio" is the median of ours divided
// by the floor's (for throughput: ours as a share of it). Ours and the floor take turns, so that the machine's moods meet both alike.
using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Json;
using System.Net.Sockets;
using System.Runtime.InteropServices;
using System.Text.Json;
using System.Text.Json.Nodes;
using CalmSentry.Bench;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Wording;

if (args is ["--bare", var bareSocket, var bareFile])
{
    await Bare.Serve(bareSocket, bareFile);
    return;
}

var binaries = Path.GetFullPath(args[0]);
var quick = args.Contains("--quick");
var pair = args.Contains("--pair"); // for bench/pair.sh: every single time of what is compared, a line each
var root = Directory.CreateTempSubdirectory("calm's bench ");

// Not where the command line of this program names it: it would be taken for a copy that runs already.
var floors = Path.Combine(root.FullName, "programs", "floors");
Directory.CreateDirectory(Path.GetDirectoryName(floors)!);
File.Copy(args[1], floors);
var places = new Places(root.FullName);
var fifoPath = Path.Combine(root.FullName, "first");
Run("mkfifo", "-m", "666", fifoPath);
using var fifo = new FileStream(fifoPath, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite, 1);
var server = Process.Start(
    new ProcessStartInfo(Path.Combine(binaries, "calm-sentry"), ["serve", "--root", places.Root, "--port", "0"])
    {
        RedirectStandardOutput = true,
        Environment = { ["DOTNET_GCgen0size"] = "400000" },
    }
)!;
while (await server.StandardOutput.ReadLineAsync() is { } line && !line.Contains(" serves ", StringComparison.Ordinal))
{ }
using var http = new HttpClient(
    new SocketsHttpHandler
    {
        ConnectCallback = async (_, stop) =>
        {
            var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
            await socket.ConnectAsync(
                // An earlier build, which is compared with this one, has no door of root's own.
                new UnixDomainSocketEndPoint(
                    Environment.IsPrivilegedProcess && File.Exists(places.RootSocket)
                        ? places.RootSocket
                        : places.ApiSocket
                ),
                stop
            );
            return new NetworkStream(socket, true);
        },
        MaxConnectionsPerServer = 400,
    }
)
{
    BaseAddress = new Uri("http://sentry/api/"),
};
var account = Environment.UserName;
await http.PostAsync($"accounts/{account}/permit", null);
var n = quick ? 10 : 100;
var turns = quick ? 2 : 5;
var headed = false;
try
{
    if (pair)
    {
        await Wrap("first", 0, floors, ["first", fifoPath]);
        Sample("launch", await Launches(n));
        Sample("kill-to-running", await Agains(n));
        await http.DeleteAsync("services/first");
        await WrapMany(200);
        for (var i = 0; i < 5; i++)
            Sample("200-from-cold", [await Cold(200, together: false)]);
        var list = Path.Combine(binaries, "calm");
        Sample("list", [.. Enumerable.Range(0, 50).Select(_ => Timed(list, "--root", places.Root, "list"))]);
        await StopAll();
        await WrapMany(1000);
        Sample("1000-from-cold", [await Cold(1000, together: false)]); // once a round
        return;
    }

    if (args.Contains("--jobs"))
        await Jobs();
    else if (args.Contains("--begin"))
        await Begin();
    else if (args.Contains("--ceilings"))
        await Alone();
    else if (args.Contains("--told"))
        await Told();
    else if (args.Contains("--knock"))
        await Knock();
    else if (args.Contains("--asked"))
        await Asked(quick ? 40 : 200);
    else if (args.Contains("--files"))
        await NewFiles();
    else if (args.Contains("--settle"))
        await Settle();
    else if (args.Contains("--crowd"))
    {
        await Prove(quick ? 20 : 1000);
        await Crowd(quick ? 20 : 1000);
    }
    else
        await All();
}
finally
{
    await StopAll();
    _ = kill(server.Id, 15);
    await server.WaitForExitAsync();
    root.Delete(recursive: true);
}

async Task All()
{
    await Wrap("first", 0, floors, ["first", fifoPath]);
    await Launch("launch: the sentry's word to the program's first instruction (floor: posix_spawn in C)");
    await Again();
    await Capture("output captured, 100-byte lines (floor: cat > file)");
    await Capture(
        "output captured, a stamp before each line",
        """{"stamp":true,"turn-over":{"at":"1 GiB"},"keep":{"most":"100 GiB"}}"""
    );
    await Capture("output captured, turned over at 32 MiB and packed", """{"keep":{"most":"100 GiB"}}""", cut: true);
    await Found();
    await Followed();
    await Whole();
    if (!args.Contains("--output"))
        await Rest();
}

// Launches alone, with ceilings and without.
async Task Alone()
{
    await Wrap("first", 0, floors, ["first", fifoPath]);
    await Launch("launch: the sentry's word to the program's first instruction (floor: posix_spawn in C)");
    await Again();
    await Ceilings();
}

// The same, and by the hundred.
async Task Begin()
{
    await Alone();
    await Check();
    await Many(quick ? 40 : 200);
    foreach (var count in quick ? [20] : new[] { 50, 200 })
        await Prove(count);
}

async Task Ceilings()
{
    await Change(
        "first",
        """{"resources":{"memory":"256 MiB","cpu":"1000 %","tree-size":"100","processors":"0-1","priority":"above-normal","open-files":"1000"}}"""
    );
    await Launches(2);
    await Launch("launch under every ceiling there is, from the second on");
    await Change("first", """{"resources":null}""");
}

// All but launches and output.
async Task Rest()
{
    await Ceilings();
    await Change("spew", """{"program":{"secrets":["SEAL"]}}""");
    await http.PutAsync("services/spew/secrets/SEAL", new StringContent("""{"value":"kelp-and-brine-4711"}"""));
    await Capture("output captured and searched for a secret to hide");
    await Check();
    await Hang();
    await Stop();
    await Storm();
    await Many(quick ? 40 : 200);
    foreach (var count in quick ? [20] : new[] { 50, 200, 500, 1000 })
        await Prove(count);
    await Crowd(quick ? 20 : 1000);
    await Asked(quick ? 20 : 200);
    await Jobs();
    await NewFiles();
    await Settle();
    await Told();
}

// Launch to the program's first instruction, from the moment the service decides on it.
async Task Launch(string what)
{
    Progress("launch");
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < turns; i++)
    {
        floor.AddRange(Lines(Run(floors, "spawn", $"{n / turns}", fifoPath)));
        ours.AddRange(await Launches(n / turns));
    }

    Row(what, floor, ours, Milliseconds);
}

async Task<List<double>> Launches(int count)
{
    var ours = new List<double>();
    for (var i = 0; i < count; i++)
    {
        await Task.Delay(200); // one start at a time, as people do: a keeper is in reserve again (many at once are measured below)
        var start = http.PostAsync("services/first/start", null);
        var first = await First();
        var stop = await http.PostAsync("services/first/stop", null);
        stop.EnsureSuccessStatusCode();
        await start;
        var run = (await http.GetFromJsonAsync("services/first/runs?last=1", ApiJson.Default.IReadOnlyListRunView))![0];
        ours.Add(first - Nanoseconds(run.Began));
    }

    return ours;
}

// kill -9 to the new program's first instruction, with a pause of 0.
async Task Again()
{
    Progress("kill to running again");
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < turns; i++)
    {
        floor.AddRange(Lines(Run(floors, "respawn", $"{n / turns}", fifoPath)));
        ours.AddRange(await Agains(n / turns));
    }

    Row("kill -9 to running again (floor: waitpid and posix_spawn in C)", floor, ours, Milliseconds);
}

async Task<List<double>> Agains(int count)
{
    await http.PostAsync("services/first/start", null);
    await First();
    var ours = new List<double>();
    var last = 0;
    for (var i = 0; i < count; i++)
    {
        var pid = await NewPid("first", last);
        last = pid;
        var before = Nanoseconds(DateTimeOffset.UtcNow);
        _ = kill(pid, 9);
        ours.Add(await First() - before);
    }

    await http.PostAsync("services/first/stop", null);
    return ours;
}

// Output captured, against a pipe into cat. Less than a file holds before it is turned over, unless that is what is measured.
async Task Capture(
    string what,
    string output = """{"turn-over":{"at":"1 GiB"},"keep":{"most":"100 GiB"}}""",
    bool cut = false
)
{
    Progress("capture");
    var bytes = quick ? 200_000_000L : 1_000_000_000L;
    if ((await http.GetAsync("services/spew")).StatusCode == System.Net.HttpStatusCode.NotFound)
        await Wrap("spew", 0, floors, ["spew", $"{bytes}"]);
    await Change("spew", """{"output":null}"""); // a change keeps what it does not name: stamps, and where it is turned over
    await Change("spew", $$"""{"output":{{output}}}""");
    var floor = new List<double>();
    var ours = new List<double>();
    var behind = new List<double>();
    for (var i = 0; i < (quick ? 1 : 5); i++)
    {
        var copy = Path.Combine(root.FullName, "copy");
        var watch = Stopwatch.StartNew();
        Run("sh", "-c", "\"$1\" spew \"$2\" | cat > \"$3\"", "sh", floors, $"{bytes}", copy);
        floor.Add(bytes / watch.Elapsed.TotalSeconds / 1e6);
        File.Delete(copy);
        var before = await OutputEnd("spew");
        await http.PostAsync("services/spew/start", null);
        RunView run;
        do
        {
            await Task.Delay(20); // whoever asks without a pause takes the processor that is measured
            run = (await http.GetFromJsonAsync("services/spew/runs?last=1", ApiJson.Default.IReadOnlyListRunView))![0];
        } while (run.Ended is null);
        ours.Add(bytes / (run.Ended.Value - run.Began).TotalSeconds / 1e6);
        var kept = await OutputEnd("spew") - before;
        if (kept < bytes || (kept > bytes && !output.Contains("stamp", StringComparison.Ordinal)))
            throw new InvalidDataException($"captured {kept} of {bytes} bytes");
        if (cut)
        {
            if (Directory.GetFiles(places.OutputDirectoryOf("spew"), "output.*.log").Length < bytes >> 26)
                throw new InvalidDataException("it was not turned over at 32 MiB");
            watch.Restart();
            await Packed("spew");
            behind.Add(watch.Elapsed.TotalSeconds);
        }

        foreach (var file in Directory.GetFiles(places.OutputDirectoryOf("spew"), "*", SearchOption.AllDirectories))
            File.Delete(file);
    }

    Row(what, floor, ours, Speed);
    if (cut)
        Say($"{bytes / 1e9:0.#} GB packed behind it, after the program's end", "–", $"{Median(behind):0.0} s");
}

async Task<long> OutputEnd(string name)
{
    using var answer = await http.GetAsync($"services/{name}/output?last=0");
    return long.Parse(answer.Headers.GetValues(OwnHeaders.Offset).Single(), CultureInfo.InvariantCulture);
}

async Task Packed(string name)
{
    while (Directory.GetFiles(places.OutputDirectoryOf(name), "output.*.log").Length > 0)
        await Task.Delay(20);
}

// What is found in packed output, against zcat and grep on the same bytes; the last lines against tail.
async Task Found()
{
    Progress("search");
    var bytes = quick ? 100_000_000L : 1L << 30;
    await Wrap("chatter", 0, floors, ["chatter", $"{bytes}"]);
    await Change("chatter", """{"output":{"keep":{"most":"100 GiB"}}}""");
    await http.PostAsync("services/chatter/start", null);
    while (
        (await http.GetFromJsonAsync("services/chatter/runs?last=1", ApiJson.Default.IReadOnlyListRunView))![0].Ended
            is null
    )
        await Task.Delay(20);
    await Packed("chatter");
    var folder = places.OutputDirectoryOf("chatter");
    const string rare = "entry 777777:";
    var grep = new List<double>();
    foreach (var (threads, mask) in new[] { (1, "1"), (2, "3") })
    {
        Run("taskset", "-a", "-p", mask, $"{server.Id}");
        var (ours, floor) = (new List<double>(), new List<double>());
        for (var i = 0; i < (quick ? 1 : 5); i++)
        {
            floor.Add(
                Seconds(() =>
                    Run(
                        "sh",
                        "-c",
                        "cd \"$1\" && (zcat output.*.log.gz; cat output.log) | grep -F \"$2\"",
                        "sh",
                        folder,
                        rare
                    )
                )
            );
            var clock = Stopwatch.GetTimestamp();
            var found = await http.GetStringAsync($"services/chatter/output/lines?find={Uri.EscapeDataString(rare)}");
            ours.Add(Stopwatch.GetElapsedTime(clock).TotalMilliseconds * 1e6);
            if (found.Count(one => one == '\n') != 1)
                throw new InvalidDataException($"found: {found}");
        }

        Row(
            $"a text found in {bytes / 1e9:0.#} GB of packed output, on {threads} processor{(threads == 1 ? "" : "s")} (floor: zcat and grep -F)",
            floor,
            ours,
            Milliseconds
        );
    }

    var last = new List<double>();
    var tail = new List<double>();
    var curl = new List<double>();
    for (var i = 0; i < (quick ? 5 : 30); i++)
    {
        tail.Add(Seconds(() => Run("tail", "-n", "20", Path.Combine(folder, "output.log"))));
        curl.Add(
            Timed(
                "curl",
                "-s",
                "--unix-socket",
                places.RootSocket,
                "http://sentry/api/services/chatter/output/lines?last=20"
            )
        );
        last.Add(Seconds(() => Run(Path.Combine(binaries, "calm"), "--root", places.Root, "output", "chatter")));
    }

    Row($"calm output: the last 20 lines of {bytes / 1e9:0.#} GB (floor: curl for the same)", curl, last, Milliseconds);
    Row("the same (floor: tail -n 20 of the last file)", tail, last, Milliseconds);
    await http.DeleteAsync("services/chatter");

    double Seconds(Action what)
    {
        var clock = Stopwatch.GetTimestamp();
        what();
        return Stopwatch.GetElapsedTime(clock).TotalMilliseconds * 1e6;
    }
}

// Much more than a machine's cache holds, through every file there is to it: byte for byte, and how much waited to be packed.
async Task Whole()
{
    Progress("ten gibibytes");
    // All of it where output alone is measured: it takes most of the time of a whole run.
    var bytes =
        quick ? 1L << 28
        : args.Contains("--output") ? 10L << 30
        : 1L << 30;
    var most = bytes * 6 / 5;
    await Wrap("river", 0, floors, ["chatter", $"{bytes}"]);
    await Change("river", $"{{\"output\":{{\"keep\":{{\"most\":\"{most >> 20} MiB\"}}}}}}");
    await http.PostAsync("services/river/start", null);
    var folder = places.OutputDirectoryOf("river");
    var waited = 0L;
    RunView run;
    do
    {
        run = (await http.GetFromJsonAsync("services/river/runs?last=1", ApiJson.Default.IReadOnlyListRunView))![0];
        waited = Math.Max(waited, Waiting());
        await Task.Delay(20);
    } while (run.Ended is null);
    await Packed("river");
    var written = Run("sh", "-c", "\"$1\" chatter \"$2\" | sha256sum", "sh", floors, $"{bytes}")[..64];
    await using (var kept = await http.GetStreamAsync("services/river/output?from=0"))
        if (Convert.ToHexStringLower(await System.Security.Cryptography.SHA256.HashDataAsync(kept)) != written)
            throw new InvalidDataException("what is kept is not what was written");
    Row(
        $"{bytes >> 30} GiB of lines captured, turned over {Directory.GetFiles(folder, "*.gz").Length} times, packed, and read back the same byte for byte (floor: cat > /dev/null)",
        [bytes / (Timed("sh", "-c", "\"$1\" chatter \"$2\" | cat > /dev/null", "sh", floors, $"{bytes}") / 1e3)],
        [bytes / (run.Ended.Value - run.Began).TotalSeconds / 1e6],
        Speed
    );
    Say(
        "… of it waited to be packed, at most (bound: a quarter of keep.most)",
        $"{most / 4 / 1e6:0} MB",
        $"{waited / 1e6:0} MB",
        $"{waited * 4.0 / most:0.00}"
    );
    var plain = Path.Combine(root.FullName, "plain");
    // tail reads its end alone
    Run("sh", "-c", "truncate -s \"$1\" \"$2\"; cat \"$3\" >>\"$2\"", "sh", $"{bytes}", plain, $"{folder}/output.log");
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < (quick ? 5 : 30); i++)
    {
        floor.Add(Timed("tail", "-n", "20", plain));
        ours.Add(Timed(Path.Combine(binaries, "calm"), "--root", places.Root, "output", "river"));
    }

    Row(
        $"calm output: the last 20 lines of {bytes >> 30} GiB (floor: tail -n 20 of a plain file as long)",
        floor,
        ours,
        Milliseconds
    );
    File.Delete(plain);
    await http.DeleteAsync("services/river");

    long Waiting()
    {
        try
        {
            return new DirectoryInfo(folder).GetFiles("output.*.log").Sum(file => file.Length);
        }
        catch (FileNotFoundException)
        {
            return 0; // packed just now
        }
    }
}

// From the writing of a line to whoever follows.
async Task Followed()
{
    Progress("follow");
    await Wrap("echoes", 0, "/bin/cat", [fifoPath]);
    await http.PostAsync("services/echoes/start", null);
    using var lines = new StreamReader(await http.GetStreamAsync("services/echoes/output/lines?last=0&follow=true"));
    var ours = new List<double>();
    for (var i = 0; i < n; i++)
    {
        await Task.Delay(20);
        var clock = Stopwatch.GetTimestamp();
        await fifo.WriteAsync("tide\n"u8.ToArray());
        await fifo.FlushAsync();
        await lines.ReadLineAsync();
        ours.Add(Stopwatch.GetElapsedTime(clock).TotalMilliseconds * 1e6);
    }

    Say("a line from its writing to whoever follows", "–", Times(ours, Milliseconds));
    await http.DeleteAsync("services/echoes");
}

// A program that keeps its number and does no work, to the watch that says so: against the beat that was set.
async Task Hang()
{
    Progress("hang to noticed");
    const int port = 7497;
    var serve =
        $"use IO::Socket::INET; my $s = IO::Socket::INET->new(LocalAddr => '127.0.0.1', LocalPort => {port}, "
        + $"Listen => 9, ReuseAddr => 1) or die; while (my $c = $s->accept) {{ my $l = <$c>; print $c "
        + $"\"HTTP/1.0 200 OK\\r\\n\\r\\nopen\\n\" }}";
    foreach (
        var (what, watch, beat) in new[]
        {
            (
                "http every 500 ms, two looks",
                $$"""[{"http":"http://127.0.0.1:{{port}}/","beat":"500 ms","patience":"2","follows":"tell"}]""",
                1000.0
            ),
            ("stopped by a signal for 1 s", """[{"paused-for":"1 s","beat":"500 ms","follows":"tell"}]""", 1000.0),
        }
    )
    {
        await Wrap(
            "hangs",
            0,
            "/usr/bin/perl",
            ["-e", serve],
            $$"""{"proof":{"http":"http://127.0.0.1:{{port}}/"} }"""
        );
        await Change("hangs", $$"""{"watch":{{watch}}}""");
        await http.PostAsync("services/hangs/start", null);
        var ours = new List<double>();
        for (var i = 0; i < (quick ? 2 : 10); i++)
        {
            await Task.Delay(1100 + (i * 37)); // not in step with the beat
            var pid = await NewPid("hangs", 0);
            var before = DateTimeOffset.UtcNow;
            _ = kill(pid, 19);
            LogEntry? said;
            do said = (
                await http.GetFromJsonAsync("logbook?service=hangs&last=1", ApiJson.Default.IReadOnlyListLogEntry)
            )!.FirstOrDefault(entry => entry.Code == "unwell" && entry.At > before);
            while (said is null);
            ours.Add((said.At - before).TotalMilliseconds * 1e6);
            _ = kill(pid, 18);
            while (
                (await http.GetFromJsonAsync("services/hangs", ApiJson.Default.ServiceDetail))!.Health
                != HealthLevel.Good
            )
                await Task.Delay(50);
        }

        Row($"hang to noticed: {what} (beside it: the time that was set)", [beat * 1e6], ours, Milliseconds);
        await http.DeleteAsync("services/hangs");
    }
}

// A directory of definitions: compared against reading and parsing the same files alone, and settled, where nothing changes, against that.
async Task Settle()
{
    Progress("services as files");
    var count = quick ? 50 : 500;
    var place = Directory.CreateDirectory(Path.Combine(root.FullName, "files")).FullName;
    for (var i = 0; i < count; i++)
        File.WriteAllText(
            Path.Combine(place, $"berth-{i}.yaml"),
            $"# Berth {i}\nname: berth-{i}\ntitle: Berth {i}\nprogram:\n  path: /bin/sleep\n  arguments: [600]\n  environment: {{ BERTH: \"{i}\" }}\n"
                + $"identity: {{ account: {account} }}\nbegin:\n  at: request   # by hand\n  needs: [{{ path: /bin }}]\nrecover: {{ pause: {{ first: 2 s }} }}\n"
        );
    await Answer("files/settle", Order());
    var (alone, compared) = (new List<double>(), new List<double>());
    for (var i = 0; i < 12; i++)
    {
        alone.Add(Took(() => Parsed()));
        compared.Add(await TookOf(() => Answer("files/compare", Order())));
    }

    Row(
        $"{count} definitions compared with the machine (floor: read and parsed alone)",
        alone[2..],
        compared[2..],
        Milliseconds
    );
    foreach (var file in Directory.GetFiles(place).Order(StringComparer.Ordinal).Skip(100))
        File.Delete(file);
    var settled = new List<double>();
    compared.Clear();
    for (var i = 0; i < 12; i++)
    {
        compared.Add(await TookOf(() => Answer("files/compare", Order())));
        settled.Add(await TookOf(() => Answer("files/settle", Order())));
    }

    Row("100 services settled that do not change (floor: compared)", compared[2..], settled[2..], Milliseconds);
    for (var i = 0; i < count; i++)
        await http.DeleteAsync($"services/berth-{i}");

    void Parsed()
    {
        foreach (var file in Directory.GetFiles(place))
        {
            var stream = new YamlDotNet.RepresentationModel.YamlStream();
            stream.Load(new StringReader(File.ReadAllText(file)));
        }
    }

    string Order() =>
        new JsonObject
        {
            ["files"] = new JsonObject
            {
                ["files"] = new JsonObject(
                    Directory
                        .GetFiles(place)
                        .Select(file => KeyValuePair.Create(Path.GetFileName(file), (JsonNode?)File.ReadAllText(file)))
                ),
            },
        }.ToJsonString();

    async Task Answer(string path, string body)
    {
        using var content = new StringContent(body, System.Text.Encoding.UTF8, "application/json");
        using var answer = await http.PostAsync(path, content);
        answer.EnsureSuccessStatusCode();
        await answer.Content.ReadAsByteArrayAsync();
    }

    static double Took(Action work)
    {
        var began = Stopwatch.GetTimestamp();
        work();
        return Stopwatch.GetElapsedTime(began).TotalNanoseconds;
    }

    static async Task<double> TookOf(Func<Task> work)
    {
        var began = Stopwatch.GetTimestamp();
        await work();
        return Stopwatch.GetElapsedTime(began).TotalNanoseconds;
    }
}

// New files for a service: from the word to the program that runs from them, against copying as many and putting them in place.
async Task NewFiles()
{
    Progress("new files");
    var count = quick ? 500 : 20_000;
    // Not where the sentry's own places are made for this: below /dev all is the host's own.
    var place = Path.Combine("/var/tmp", Path.GetFileName(root.FullName));
    var (fresh, home, plain) = (Tree("new"), Tree("home"), Tree("plain"));
    await Wrap("swapped", 0, Path.Combine(home, "first"), ["first", fifoPath]);
    await http.PostAsync("services/swapped/start", null);
    await First();
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < (quick ? 1 : 5); i++)
    {
        var (beside, aside) = (Path.Combine(place, "beside"), Path.Combine(place, $"aside-{i}"));
        floor.Add(
            Timed(
                "/bin/sh",
                "-c",
                "cp -a \"$1\" \"$2\" && mv \"$3\" \"$4\" && mv \"$2\" \"$3\"",
                "sh",
                fresh,
                beside,
                plain,
                aside
            )
        );
        var before = Nanoseconds(DateTimeOffset.UtcNow);
        var swap = Task.Run(() =>
            Run(
                Path.Combine(binaries, "calm"),
                ["--root", places.Root, "swap", "swapped", "--from", fresh, "--watch-for", "1s"]
            )
        );
        ours.Add(await First() - before);
        await swap;
    }

    Row(
        $"{count} new files of 1 KiB, from the word to the program that runs from them (floor: cp -a and mv)",
        floor,
        ours,
        Milliseconds
    );
    await http.DeleteAsync("services/swapped");
    Directory.Delete(place, recursive: true);

    string Tree(string name)
    {
        var directory = Path.Combine(place, name);
        for (var i = 0; i < count; i++)
        {
            if (i % 200 == 0)
                Directory.CreateDirectory(Path.Combine(directory, $"{i / 200}"));
            File.WriteAllBytes(
                Path.Combine(directory, $"{i / 200}", $"{i}"),
                System.Security.Cryptography.RandomNumberGenerator.GetBytes(1024)
            );
        }

        File.Copy(floors, Path.Combine(directory, "first"));
        return directory;
    }
}

// From a kill that puts a service on hold until the mail about it is there, against a mail alone.
async Task Told()
{
    Progress("told");
    using var post = new CalmSentry.Bench.Post();
    Directory.CreateDirectory(Path.GetDirectoryName(places.Settings)!);
    await File.WriteAllTextAsync(
        places.Settings,
        $"mail: {{ server: 127.0.0.1:{post.Port}, security: none, from: a@bench.example }}\n"
            + "tell:\n  - { mail: b@bench.example, name: b }\nalerts: { most-an-hour: 1000 }\n"
    );
    while ((await Json("recipients")).GetArrayLength() == 0)
        await Task.Delay(50);
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < (quick ? 2 : 6); i++)
    {
        await Wrap($"told-{i}", 0, "/bin/sleep", ["1000"], holdEnds: 1);
        await http.PostAsync($"services/told-{i}/start", null);
        var pid = (await Json($"services/told-{i}")).GetProperty("pid").GetInt32();
        // What happens to several within ten seconds is told together.
        await Task.Delay(TimeSpan.FromSeconds(11));
        var fell = Stopwatch.GetTimestamp();
        _ = kill(pid, 9);
        var (at, length) = await post.Next();
        ours.Add(Stopwatch.GetElapsedTime(fell, at).TotalNanoseconds);
        floor.Add((await post.RoundTrip(length)).TotalNanoseconds);
    }

    Row(
        "from a kill that puts a service on hold until the mail about it is there (floor: a mail as long, alone)",
        floor,
        ours,
        Milliseconds
    );
}

// A stop with a program that obeys, against the program's own time to end.
async Task Stop()
{
    Progress("stop");
    const string obedient =
        "$SIG{TERM} = sub { select undef, undef, undef, 0.05; exit 0 }; $| = 1; print qq(ready\\n); sleep 1 while 1";
    var (floor, ours) = (new List<double>(), new List<double>());
    await Wrap("obeys", 0, "/usr/bin/perl", ["-e", obedient], """{"proof":{"output":"ready"}}""");
    for (var i = 0; i < (quick ? 5 : 30); i++)
    {
        using var alone = Process.Start(
            new ProcessStartInfo("/usr/bin/perl", ["-e", obedient]) { RedirectStandardOutput = true }
        )!;
        await alone.StandardOutput.ReadLineAsync();
        var clock = Stopwatch.GetTimestamp();
        _ = kill(alone.Id, 15);
        await alone.WaitForExitAsync();
        floor.Add(Stopwatch.GetElapsedTime(clock).TotalMilliseconds * 1e6);
        await http.PostAsync("services/obeys/start", null);
        clock = Stopwatch.GetTimestamp();
        await http.PostAsync("services/obeys/stop", null);
        ours.Add(Stopwatch.GetElapsedTime(clock).TotalMilliseconds * 1e6);
    }

    Row(
        "stop asked to answered, of a program that takes 50 ms to end (floor: kill and wait for the same "
            + "program alone)",
        floor,
        ours,
        Milliseconds
    );
    await http.DeleteAsync("services/obeys");
}

// Fifty programs that fall five hundred times a minute: how long calm list takes, against the same before the storm.
async Task Storm()
{
    Progress("storm");
    var storm = Path.Combine(root.FullName, "storm");
    var names = Enumerable.Range(0, 50).Select(i => $"falls-{i}").ToList();
    foreach (var name in names)
    {
        await Wrap(
            name,
            1,
            "/bin/sh",
            ["-c", $"while [ ! -e {storm} ]; do sleep 1; done; sleep 4.9; exit 3"],
            """{"proof":{"up-for":"100 ms"}}"""
        );
        await Change(name, """{"recover":{"pause":{"grow":"1"}}}""");
    }

    await Task.WhenAll(names.Select(name => http.PostAsync($"services/{name}/start", null)));
    double Slowest(int asked) =>
        Enumerable
            .Range(0, asked)
            .Select(_ => Timed(Path.Combine(binaries, "calm"), "--root", places.Root, "list"))
            .Order()
            .ElementAt((int)(asked * 0.99) - 1);
    async Task<long> Runs() =>
        (await http.GetFromJsonAsync("services", ApiJson.Default.IReadOnlyListServiceView))!.Sum(view => view.Run ?? 0);
    var idle = Slowest(quick ? 100 : 400);
    await File.WriteAllTextAsync(storm, "");
    var before = await Runs();
    while (await Runs() < before + 100)
        await Task.Delay(100);
    var memory = Pss(server.Id);
    var (from, clock) = (await Runs(), Stopwatch.GetTimestamp());
    var stormy = Slowest(quick ? 200 : 800);
    while (await Runs() < from + (quick ? 100 : 500))
        await Task.Delay(100);
    var falls = await Runs() - from;
    Row(
        $"99th percentile of calm list, 50 services, under "
            + $"{falls / Stopwatch.GetElapsedTime(clock).TotalMinutes:0} crashes a minute (beside it: the same "
            + $"while all run well)",
        [idle],
        [stormy],
        Milliseconds
    );
    Say(
        $"memory of the service after 100 such crashes, and after {falls} more (Pss)",
        $"{memory / 1024:0.0} MB",
        $"{Pss(server.Id) / 1024:0.0} MB",
        (Pss(server.Id) / memory).ToString("0.00", CultureInfo.InvariantCulture)
    );
    await Task.WhenAll(names.Select(name => http.DeleteAsync($"services/{name}")));
    File.Delete(storm);
}

// A whole check of a service: everything that is asked, among it three processes that are its account.
async Task Check()
{
    Progress("check");
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < n; i++)
    {
        floor.Add(Timed("setpriv", "--reuid", "0", "--regid", "0", "--clear-groups", "true"));
        var watch = Stopwatch.StartNew();
        (await http.GetAsync("services/first/check")).EnsureSuccessStatusCode();
        ours.Add(watch.Elapsed.TotalNanoseconds);
    }

    Row("a whole check of a service (floor: one process as another account)", floor, ours, Milliseconds);
}

async Task Change(string name, string change) =>
    (await http.PatchAsync($"services/{name}", new StringContent(change))).EnsureSuccessStatusCode();

// Many services: from cold, memory, quiet, and how fast they are listed.
async Task Many(int count)
{
    Progress($"{count} services");
    await http.DeleteAsync("services/first");
    await http.DeleteAsync("services/spew"); // where it is there
    await WrapMany(count);
    foreach (var (together, how) in new[] { (true, "by one word of a person"), (false, "by as many at once") })
    {
        var (floor, cold) = (new List<double>(), new List<double>());
        for (var i = 0; i < turns; i++)
        {
            floor.AddRange(Lines(Run(floors, "many", $"{count}", fifoPath)));
            cold.Add(await Cold(count, together));
        }

        Row(
            $"{count} services from cold, {how}, to the last one's first instruction (floor: the same from one C program)",
            floor,
            cold,
            Milliseconds
        );
    }

    var keepers = Process
        .GetProcessesByName("calm-keeper")
        .Where(keeper => File.ReadAllText($"/proc/{keeper.Id}/cmdline").Contains(places.Root, StringComparison.Ordinal))
        .ToList();
    Say(
        $"memory of a keeper, one of {keepers.Count} (Pss)",
        "–",
        $"{Median(keepers.Select(keeper => Pss(keeper.Id)))} kB"
    );
    await Task.Delay(3000); // let the service come to rest
    var switches = keepers.Sum(keeper => Switches(keeper.Id).Values.Sum());
    await Task.Delay(5000);
    Say(
        $"wake-ups of {keepers.Count} idle keepers in 5 s",
        "–",
        $"{keepers.Sum(keeper => Switches(keeper.Id).Values.Sum()) - switches}"
    );
    Say($"memory of the service with {count} services (Pss)", "–", $"{Pss(server.Id) / 1000.0:0.0} MB");

    var curl = new List<double>();
    var json = new List<double>();
    var table = new List<double>();
    for (var i = 0; i < (quick ? 5 : 30); i++)
    {
        curl.Add(Timed("curl", "-s", "--unix-socket", places.RootSocket, "http://sentry/api/services"));
        json.Add(Timed(Path.Combine(binaries, "calm"), "--root", places.Root, "list", "--json"));
        table.Add(Timed(Path.Combine(binaries, "calm"), "--root", places.Root, "list"));
    }

    Row($"calm list --json, {count} services (floor: curl on the same socket)", curl, json, Milliseconds);
    Row($"calm list, {count} services (floor: curl on the same socket)", curl, table, Milliseconds);
}

// The list asked for by many at once, beside the same bytes of a server that does nothing else.
async Task Asked(int count)
{
    Progress("the list, asked for by many");
    const int askers = 8;
    await WrapMany(count);
    var bytes = Path.Combine(root.FullName, "list");
    await File.WriteAllBytesAsync(bytes, await http.GetByteArrayAsync("services"));
    var socket = Path.Combine(root.FullName, "bare");
    using var bare = Process.Start(
        new ProcessStartInfo(Environment.ProcessPath!, ["--bare", socket, bytes]) { RedirectStandardOutput = true }
    )!;
    await bare.StandardOutput.ReadLineAsync();
    using var floor = Client(socket);
    using var ours = Client(Environment.IsPrivilegedProcess ? places.RootSocket : places.ApiSocket);
    var (floorTimes, ourTimes) = (new List<double>(), new List<double>());
    var (floorRates, ourRates) = (new List<double>(), new List<double>());
    for (var turn = 0; turn < turns + 1; turn++)
    {
        var known = turn > 0; // the first turn only warms both
        await AskAll(floor, "/", known ? floorTimes : [], known ? floorRates : []);
        await AskAll(ours, "/api/services", known ? ourTimes : [], known ? ourRates : []);
    }

    bare.Kill();
    await bare.WaitForExitAsync();
    var size = new FileInfo(bytes).Length / 1000;
    var all = (await http.GetFromJsonAsync("services", ApiJson.Default.IReadOnlyListServiceView))!.Count;
    Row(
        $"the list of {all} services ({size} kB), {askers} asking at once (floor: the same bytes by the same framework)",
        floorTimes,
        ourTimes,
        Milliseconds
    );
    Row("the same, answers a second", floorRates, ourRates, PerSecond);

    static HttpClient Client(string socket) =>
        new(
            new SocketsHttpHandler
            {
                ConnectCallback = async (_, stop) =>
                {
                    var to = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
                    await to.ConnectAsync(new UnixDomainSocketEndPoint(socket), stop);
                    return new NetworkStream(to, true);
                },
                MaxConnectionsPerServer = askers,
            }
        )
        {
            BaseAddress = new Uri("http://sentry/"),
        };

    async Task AskAll(HttpClient client, string path, List<double> times, List<double> rates)
    {
        var each = quick ? 20 : 250;
        var all = Stopwatch.StartNew();
        var asked = await Task.WhenAll(
            Enumerable
                .Range(0, askers)
                .Select(async _ =>
                {
                    var took = new List<double>();
                    for (var i = 0; i < each; i++)
                    {
                        var one = Stopwatch.StartNew();
                        await client.GetByteArrayAsync(path);
                        took.Add(one.Elapsed.TotalNanoseconds);
                    }

                    return took;
                })
        );
        times.AddRange(asked.SelectMany(took => took));
        rates.Add(askers * each / all.Elapsed.TotalSeconds);
    }
}

// The list while another account's processes connect and hang up without pause, beside as many that do so at a socket nobody listens at.
async Task Knock()
{
    Progress("knock");
    await WrapMany(20);
    root.UnixFileMode = (UnixFileMode)0x1ED;
    var nobodys = Path.Combine(root.FullName, "nobodys");
    using var bound = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
    bound.Bind(new UnixDomainSocketEndPoint(nobodys));
    bound.Listen(1); // where nobody takes a connection they wait, as they do at ours
    File.SetUnixFileMode(nobodys, (UnixFileMode)0x1FF);
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var round = 0; round < (quick ? 2 : 10); round++)
    {
        foreach (var (at, into) in new[] { (nobodys, floor), (places.ApiSocket, ours) })
        {
            var knockers = Enumerable.Range(0, 8).Select(_ => Knocker(at)).ToList();
            await Task.Delay(500); // what they are let in at the beginning is over
            for (var i = 0; i < 10; i++)
                into.Add(Timed(Path.Combine(binaries, "calm"), "--root", places.Root, "list"));
            foreach (var knocker in knockers)
            {
                knocker.Kill();
                await knocker.WaitForExitAsync();
                knocker.Dispose();
            }
        }
    }

    Row(
        "calm list while eight processes of another account knock (floor: they knock where nobody answers)",
        floor,
        ours,
        Milliseconds
    );

    static Process Knocker(string at) =>
        Process.Start(
            "setpriv",
            [
                "--reuid=daemon",
                "--regid=daemon",
                "--clear-groups",
                "perl",
                "-MSocket",
                "-e",
                "my $to = sockaddr_un($ARGV[0]); while (1) { socket(my $s, PF_UNIX, SOCK_STREAM, 0); connect($s, $to); close $s }",
                at,
            ]
        );
}

// How late jobs begin, and what resting ones cost.
async Task Jobs()
{
    await Empty();
    var together = quick ? 20 : 200;
    Progress($"{together} jobs at one moment");
    var floor = Lines(Run(floors, "moments", $"{together}", fifoPath));
    for (var i = 0; i < together; i++)
        await WrapJob($"job-{i}", "every 10 s from 00:00");
    await Until(10_000, 500); // what begins half way through a round is none
    var late = new List<double>();
    for (var i = 0; i < together; i++)
        late.Add(await First() % 10_000_000_000L);
    Late(
        $"{together} jobs at one moment: begin after it (floor: a C program that sleeps until it and spawns the same)",
        floor,
        late
    );

    await Empty();
    var many = quick ? 50 : 1000;
    Progress($"{many} jobs every minute");
    Environment.SetEnvironmentVariable("SPACING", $"{(quick ? 10 : 60) * 1_000_000_000L / many}");
    floor = Lines(Run(floors, "moments", $"{many}", fifoPath));
    Environment.SetEnvironmentVariable("SPACING", null);
    for (var i = 0; i < many; i++)
        await WrapJob($"job-{i}", "every 1 min");
    await Until(60_000, 59_000);
    // What has begun so far is of an earlier round.
    while (Waiting() > 0)
        await First();
    var due = (await Json("services"))
        .EnumerateArray()
        .Select(view => (double)Nanoseconds(view.GetProperty("next-moment").GetDateTimeOffset()))
        .Order()
        .ToList();
    late = [];
    for (var i = 0; i < many; i++)
        late.Add(await First());
    Late(
        $"{many} jobs every minute, each at its own second: begin after it (floor: one C program, as many moments in a minute)",
        floor,
        [.. late.Order().Zip(due, (began, moment) => began - moment)]
    );

    await Empty();
    Progress($"{many} resting jobs");
    var none = await WakeUps();
    for (var i = 0; i < many; i++)
        await WrapJob($"job-{i}", "every 23 h from 00:00");
    var resting = await WakeUps();
    Say(
        $"wake-ups a minute of the service with {many} resting jobs, 0 moments due (floor: with none); keepers beside the one in reserve: {Keepers() - 1}",
        $"{none:0}",
        $"{resting:0}",
        Ratio(resting / none)
    );
    await Empty();
}

// Those of this server, the one in reserve among them.
int Keepers() =>
    Process
        .GetProcessesByName("calm-keeper")
        .Count(keeper => CommandLine(keeper.Id).Contains(places.Root, StringComparison.Ordinal));

static string CommandLine(int pid)
{
    try
    {
        return File.ReadAllText($"/proc/{pid}/cmdline");
    }
    catch (IOException)
    {
        return "";
    }
}

// How often a thread of the service was put on a processor, a minute.
async Task<double> WakeUps()
{
    await Task.Delay(10_000);
    var (switches, began) = (Switches(server.Id), Stopwatch.GetTimestamp());
    await Task.Delay(TimeSpan.FromSeconds(quick ? 10 : 60));
    // Threads come and go: of one that has gone nobody tells any more.
    var woken = Switches(server.Id).Sum(thread => thread.Value - switches.GetValueOrDefault(thread.Key));
    return woken / Stopwatch.GetElapsedTime(began).TotalMinutes;
}

void Late(string what, List<double> floor, List<double> ours)
{
    Row(what, floor, ours, Milliseconds);
    Say("… p99 beside p99", Milliseconds(Slow(floor)), Milliseconds(Slow(ours)), Ratio(Slow(ours) / Slow(floor)));
}

// Until so many milliseconds are left of a round of people's clock.
Task Until(int round, int left) =>
    Task.Delay((int)((round - (DateTimeOffset.UtcNow.ToUnixTimeMilliseconds() % round) + round - left) % round));

async Task Empty()
{
    var all = await Json("services");
    await Task.WhenAll(
        all.EnumerateArray().Select(view => http.DeleteAsync($"services/{view.GetProperty("name")}?dependents=leave"))
    );
    // What began a moment before has written its time.
    await Task.Delay(500);
    while (fifo.SafeFileHandle is { IsInvalid: false } && Waiting() > 0)
        await First();
}

int Waiting()
{
    var bytes = 0;
    const ulong howMany = 0x541B; // FIONREAD
    return ioctl(fifo.SafeFileHandle.DangerousGetHandle().ToInt32(), howMany, ref bytes) == 0 ? bytes : 0;
}

Task WrapJob(string name, string rhythm) =>
    Wrap(name, 0, floors, ["once", fifoPath], kind: "periodic", rhythm: $$"""[{"run":"{{rhythm}}"}]""");

// As many clients at once, each starting one of the services that were proven before.
async Task Crowd(int count)
{
    Progress($"{count} clients at once");
    await StopAll();
    var clients = Enumerable
        .Range(0, count)
        .Select(i =>
            Process.Start(
                new ProcessStartInfo(
                    Path.Combine(binaries, "calm"),
                    ["--root", places.Root, "start", $"service-{i}", "--json"]
                )
                {
                    RedirectStandardOutput = true,
                    RedirectStandardError = true,
                }
            )!
        )
        .ToList();
    var refused = 0;
    foreach (var client in clients)
    {
        var said = client.StandardOutput.ReadToEndAsync();
        _ = await client.StandardError.ReadToEndAsync();
        _ = await said;
        await client.WaitForExitAsync();
        if (client.ExitCode != 0)
            refused++;
    }

    await Task.Delay(TimeSpan.FromMinutes(1));
    Say(
        $"memory of the service a minute after {count} clients each started a service at once, {refused} refused (Pss)",
        "–",
        $"{Pss(server.Id) / 1000.0:0.0} MB"
    );
    var before = Used();
    var quiet = TimeSpan.FromSeconds(quick ? 5 : 60);
    await Task.Delay(quiet);
    var used = (Used() - before) / quiet.TotalSeconds * 100;
    Say(
        $"processor time of the service and the keepers of {count} quiet services (of one processor)",
        "–",
        $"{used:0.000} %"
    );

    // Seconds on a processor of the sentry's own processes (proc(5), stat, fields 14 and 15), with those of threads that have ended.
    double Used() =>
        Directory
            .GetDirectories("/proc")
            .Where(process =>
                char.IsAsciiDigit(Path.GetFileName(process)[0])
                && Read(process, "comm").StartsWith("calm-", StringComparison.Ordinal)
            )
            .Sum(process =>
                Read(process, "stat").Split(") ")[^1].Split(' ') is { Length: > 20 } stat
                    ? (long.Parse(stat[11]) + long.Parse(stat[12])) / 100.0
                    : 0
            );

    static string Read(string directory, string file)
    {
        try
        {
            return File.ReadAllText(Path.Combine(directory, file));
        }
        catch (IOException)
        {
            return ""; // it ended
        }
    }
}

async Task WrapMany(int count)
{
    for (var i = 0; i < count; i++)
        if ((await http.GetAsync($"services/service-{i}")).StatusCode == System.Net.HttpStatusCode.NotFound)
            await Wrap($"service-{i}", 0, floors, ["first", fifoPath]);
}

// All of them begun at once, until the last one's first instruction.
async Task<double> Cold(int count, bool together)
{
    await StopAll();
    while (Keepers() > 1)
        await Task.Delay(10); // those of before are not of this start
    var names = string.Join(',', Enumerable.Range(0, count).Select(i => $"\"service-{i}\""));
    var before = Nanoseconds(DateTimeOffset.UtcNow);
    var starts = together
        ? [http.PostAsync("together/start", new StringContent($"{{\"services\":[{names}]}}"))]
        : Enumerable.Range(0, count).Select(i => http.PostAsync($"services/service-{i}/start", null)).ToList();
    long last = 0;
    for (var i = 0; i < count; i++)
        last = Math.Max(last, await First());
    await Task.WhenAll(starts);
    return last - before;
}

async Task StopAll()
{
    var all = await Json("services");
    await Task.WhenAll(
        all.EnumerateArray().Select(view => http.PostAsync($"services/{view.GetProperty("name")}/stop", null))
    );
}

void Sample(string what, List<double> times)
{
    foreach (var time in times)
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{what} {time / 1e6:0.000}"));
}

// Many services begun as a boot would, each proven by its own port; the same sentry goes on to the next number.
async Task Prove(int count)
{
    Progress($"{count} services from cold to proven");
    var all = (await http.GetFromJsonAsync("services", ApiJson.Default.IReadOnlyListServiceView))!;
    await Task.WhenAll(all.Select(view => http.DeleteAsync($"services/{view.Name}")));
    const int port = 20000;
    var (floor, ours) = (new List<double>(), new List<double>());
    for (var i = 0; i < count; i++)
        await Wrap(
            $"service-{i}",
            0,
            floors,
            ["serve", $"{port + i}"],
            $$"""{"at":"boot","proof":{"tcp":"127.0.0.1:{{port + i}}"} }"""
        );
    for (var i = 0; i < (count > 200 ? 1 : Math.Min(turns, 3)); i++)
    {
        await StopAll();
        floor.AddRange(Lines(Run(floors, "prove", $"{count}", $"{port}")));
        using var played = await http.PostAsync("drills", null);
        var line = (await played.Content.ReadAsStringAsync()).Split('\n', StringSplitOptions.RemoveEmptyEntries)[^1];
        var report = System.Text.Json.JsonSerializer.Deserialize(line, ApiJson.Default.DrillEvent)!.Report!;
        if (!report.CameTrue)
            throw new InvalidOperationException(report.Said);
        ours.Add(report.TookMs * 1e6);
    }

    Row(
        $"{count} services from cold to all proven by their ports (floor: one C program spawns the same and polls "
            + $"the same ports)",
        floor,
        ours,
        Milliseconds
    );
}

async Task Wrap(
    string name,
    int pauseSeconds,
    string program,
    string[] arguments,
    string? begin = null,
    string kind = "stays",
    string? rhythm = null,
    int holdEnds = 0
)
{
    var definition = new System.Text.Json.Nodes.JsonObject
    {
        ["name"] = name,
        ["program"] = new System.Text.Json.Nodes.JsonObject
        {
            ["kind"] = kind,
            ["path"] = program,
            ["arguments"] = new System.Text.Json.Nodes.JsonArray([
                .. arguments.Select(a => (System.Text.Json.Nodes.JsonNode)a),
            ]),
        },
        ["identity"] = new System.Text.Json.Nodes.JsonObject { ["account"] = account },
        ["begin"] = begin is null
            ? new System.Text.Json.Nodes.JsonObject()
            : System.Text.Json.Nodes.JsonNode.Parse(begin),
        ["recover"] = new System.Text.Json.Nodes.JsonObject
        {
            ["pause"] = new System.Text.Json.Nodes.JsonObject { ["first"] = $"{pauseSeconds} s" },
            ["hold"] = new System.Text.Json.Nodes.JsonObject { ["ends"] = $"{holdEnds}" },
        },
    };
    if (rhythm is not null)
    {
        definition["rhythm"] = System.Text.Json.Nodes.JsonNode.Parse(rhythm);
        definition["begin"] = new System.Text.Json.Nodes.JsonObject { ["at"] = "boot" };
    }

    using var answer = await http.PostAsync("services", new StringContent(definition.ToJsonString()));
    if (!answer.IsSuccessStatusCode)
        throw new InvalidOperationException(await answer.Content.ReadAsStringAsync());
}

async Task<int> NewPid(string name, int old)
{
    while (true)
        if (
            (await Json($"services/{name}")).GetProperty("pid") is { ValueKind: JsonValueKind.Number } known
            && known.GetInt32() is var pid
            && pid != old
        )
            return pid;
}

// Also of a build whose answers have other keys beside these.
async Task<JsonElement> Json(string path) => JsonDocument.Parse(await http.GetStringAsync(path)).RootElement;

async Task<long> First()
{
    var text = new byte[20];
    // A program that was refused never begins: that ends the bench, and does not hold it up for good.
    await fifo.ReadExactlyAsync(text).AsTask().WaitAsync(TimeSpan.FromMinutes(2));
    return long.Parse(text, CultureInfo.InvariantCulture);
}

void Row(string what, List<double> floor, List<double> ours, Func<double, string> unit) =>
    Say(what, Times(floor, unit), Times(ours, unit), Ratio(Median(ours) / Median(floor)));

// One row of the table, as soon as it is known.
void Say(string what, string floor, string ours, string ratio = "–")
{
    if (!headed)
        Console.WriteLine(
            "| what | floor: p50 (p99, worst) | Calm Sentry: p50 (p99, worst) | ratio of p50 |\n|---|---|---|---|"
        );
    headed = true;
    Console.WriteLine($"| {what} | {floor} | {ours} | {ratio} |");
}

static string Times(List<double> times, Func<double, string> unit)
{
    // Of a speed the worst is the least.
    var worst = unit == Speed || unit == PerSecond ? times.Min() : times.Max();
    return times.Count == 1
        ? unit(times[0])
        : $"{unit(Median(times))} ({(times.Count >= 100 ? $"{unit(Slow(times))}, " : "")}{unit(worst)})";
}

static double Slow(List<double> times) => times.Order().ElementAt((int)Math.Ceiling(times.Count * 0.99) - 1);

static string Ratio(double ratio) => ratio.ToString("0.00", CultureInfo.InvariantCulture);

static string Speed(double megabytes) => string.Create(CultureInfo.InvariantCulture, $"{megabytes:0} MB/s");

static string PerSecond(double rate) => string.Create(CultureInfo.InvariantCulture, $"{rate:0} a second");

void Progress(string what) => Console.Error.WriteLine($"bench: {what}");

static string Milliseconds(double nanoseconds) =>
    string.Create(CultureInfo.InvariantCulture, $"{nanoseconds / 1e6:0.00} ms");

static double Median(IEnumerable<double> values)
{
    var sorted = values.Order().ToList();
    return sorted[sorted.Count / 2];
}

static List<double> Lines(string text) =>
    [
        .. text.Split('\n', StringSplitOptions.RemoveEmptyEntries)
            .Select(line => double.Parse(line, CultureInfo.InvariantCulture)),
    ];

static long Nanoseconds(DateTimeOffset time) => (time.UtcTicks - DateTimeOffset.UnixEpoch.UtcTicks) * 100;

static double Pss(int pid) =>
    double.Parse(
        File.ReadLines($"/proc/{pid}/smaps_rollup").First(line => line.StartsWith("Pss:", StringComparison.Ordinal))[
            4..^2
        ],
        CultureInfo.InvariantCulture
    );

// How often each thread was put off a processor so far.
static Dictionary<string, long> Switches(int pid) =>
    Directory
        .GetDirectories($"/proc/{pid}/task")
        .ToDictionary(
            task => task,
            task =>
                File.ReadLines($"{task}/status")
                    .Where(line => line.Contains("ctxt_switches", StringComparison.Ordinal))
                    .Sum(line => long.Parse(line.Split('\t')[1], CultureInfo.InvariantCulture))
        );

static double Timed(string program, params string[] arguments)
{
    var watch = Stopwatch.StartNew();
    Run(program, arguments);
    return watch.Elapsed.TotalMilliseconds * 1e6;
}

static string Run(string program, params string[] arguments)
{
    using var process = Process.Start(new ProcessStartInfo(program, arguments) { RedirectStandardOutput = true })!;
    var output = process.StandardOutput.ReadToEnd();
    process.WaitForExit();
    return process.ExitCode == 0
        ? output
        : throw new InvalidOperationException($"{program} ended with {process.ExitCode}");
}

[DllImport("libc")]
static extern int kill(int pid, int signal);

[DllImport("libc")]
static extern int ioctl(int file, ulong request, ref int value);
