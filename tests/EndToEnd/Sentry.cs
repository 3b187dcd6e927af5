using System.Diagnostics;
using System.Text;
using System.Text.Json;
using CalmSentry.Contract;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>What a command printed and how it ended.</summary>
public sealed record Said(int Exit, string Output, string Error)
{
    public string All => Output + Error;

    /// <summary>What went wrong first: reports are cut.</summary>
    public string Told => Error + Output;

    public JsonElement Json => JsonDocument.Parse(Output).RootElement;
}

/// <summary>A real sentry of its own root, with the programs as they ship, asked through the real client.</summary>
public sealed class Sentry : IAsyncDisposable
{
    /// <summary>Directory of the project.</summary>
    public static readonly string Repository = FindRepository();

    /// <summary>
    /// The programs as they ship; while developing, CALM_TEST_OUT=out/quick takes quickly built ones.
    /// </summary>
    public static readonly string Out = Path.Combine(
        Repository,
        Environment.GetEnvironmentVariable("CALM_TEST_OUT") ?? "out"
    );

    /// <summary>
    /// How long a test waits before it fails: reached only by what never comes, so generous to a busy machine.
    /// </summary>
    public static readonly TimeSpan Limit = TimeSpan.FromMinutes(3);

    private static readonly TimeSpan BetweenLooks = TimeSpan.FromMilliseconds(5);

    private readonly string[] before;
    private string binaries;
    private Process? server;
    private bool guarded;

    private Sentry(string root, string binaries, string[] before) =>
        (Places, this.binaries, this.before) = (new Places(root), binaries, before);

    public Places Places { get; }

    public int ServerPid => server!.Id;

    /// <summary>
    /// The account services run as in tests: nobody where the tests run as root, else whoever runs them.
    /// </summary>
    public static string Account { get; } = Environment.UserName == "root" ? "nobody" : Environment.UserName;

    /// <summary>On a disk, as the sentry's own places are: some hosts have /tmp in memory.</summary>
    public static DirectoryInfo NewPlace(string name)
    {
        var place = new DriveInfo(Path.GetTempPath()).DriveFormat == "tmpfs" ? "/var/tmp" : Path.GetTempPath();
        return Directory.CreateDirectory(Path.Combine(place, $"{name} {Path.GetRandomFileName()[..6]}"));
    }

    /// <param name="before">A command the server is started through.</param>
    public static async Task<Sentry> Start(params string[] before)
    {
        var root = NewPlace("calm's trial");
        File.SetUnixFileMode(root.FullName, (UnixFileMode)0b111_101_101);
        var sentry = new Sentry(root.FullName, Out, before);
        await sentry.Serve();
        if (Environment.UserName == "root")
            await sentry.Ok("account", "permit", Account);
        return sentry;
    }

    /// <summary>
    /// A sentry, and its client, of an account without rights: no other accounts, and no control groups either.
    /// </summary>
    public static async Task<Sentry> StartWithoutRoot()
    {
        if (Environment.UserName != "root")
            return await Start();
        var root = NewPlace("calm's trial");
        var binaries = Directory.CreateDirectory(Path.Combine(root.FullName, "bin")).FullName;
        foreach (var file in Directory.EnumerateFiles(Out))
            File.Copy(file, Path.Combine(binaries, Path.GetFileName(file)));
        await Process.Start("chown", ["-R", "nobody", root.FullName]).WaitForExitAsync();
        var sentry = new Sentry(
            root.FullName,
            binaries,
            ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"]
        );
        await sentry.Serve();
        return sentry;
    }

    /// <summary>Starts the server and returns once it says that it serves.</summary>
    public async Task Serve()
    {
        server = Launch("calm-sentry", ["serve", "--root", Places.Root, "--port", "0"]);
        var lines = new StringBuilder();
        while (await server.StandardOutput.ReadLineAsync().InTime() is { } line)
        {
            lines.AppendLine(line);
            if (line.Contains(" serves ", StringComparison.Ordinal))
                return;
        }

        Assert.Fail($"the server did not come up: {lines}{await server.StandardError.ReadToEndAsync()}");
    }

    /// <summary>A sentry whose server is guarded, as on an installed host.</summary>
    public static async Task<Sentry> StartGuarded()
    {
        var root = NewPlace("calm's trial");
        File.SetUnixFileMode(root.FullName, (UnixFileMode)0b111_101_101);
        var sentry = new Sentry(root.FullName, Out, []);
        Directory.CreateDirectory(sentry.Places.RunDirectory);
        await sentry.ServeGuarded();
        if (Environment.UserName == "root")
            await sentry.Ok("account", "permit", Account);
        return sentry;
    }

    public async Task ServeGuarded()
    {
        server = Launch(
            "calm-keeper",
            ["guard", Places.RunDirectory, Program("calm-sentry"), "serve", "--root", Places.Root, "--port", "0"]
        );
        guarded = true;
        await Ok("host", "status", "--wait", "30s");
    }

    /// <summary>Process id of the server that answers now, or 0.</summary>
    public async Task<int> Server() =>
        (await Calm("host", "status", "--json")) is { Exit: 0 } said ? said.Json.GetProperty("pid").GetInt32() : 0;

    /// <summary>Process id of the live guard, or 0.</summary>
    public async Task<int> Guard() =>
        (await Calm("host", "status", "--json")) is { Exit: 0 } said
        && said.Json.TryGetProperty("guard", out var guard)
        && guard.ValueKind == JsonValueKind.Number
            ? guard.GetInt32()
            : 0;

    /// <summary>kill -9, as a crash would be.</summary>
    public async Task KillServer()
    {
        server!.Kill();
        await server.WaitForExitAsync();
    }

    /// <summary>As an installed one is ended; programs go on.</summary>
    public async Task EndServer()
    {
        Kill(server!.Id, "TERM");
        await server.WaitForExitAsync();
    }

    /// <summary>Changes what is stored behind the sentry's back; it must change something.</summary>
    public async Task ChangeStore(string sql)
    {
        await using var store = new SqliteConnection($"Data Source={Places.Database};Pooling=False");
        await store.OpenAsync();
        await using var command = store.CreateCommand();
        command.CommandText = sql;
        Assert.NotEqual(0, await command.ExecuteNonQueryAsync());
    }

    public Task<Said> Calm(params string[] arguments) => Piped("", arguments);

    /// <summary>A command with something on its standard input.</summary>
    public async Task<Said> Piped(string input, params string[] arguments)
    {
        using var process = Launch("calm", ["--root", Places.Root, .. arguments]);
        await process.StandardInput.WriteAsync(input);
        process.StandardInput.Close();
        var output = process.StandardOutput.ReadToEndAsync();
        var error = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync().InTime();
        return new(process.ExitCode, await output, await error);
    }

    /// <summary>A command left running, with variables of its own beside the caller's.</summary>
    public Process Open(Dictionary<string, string> environment, params string[] arguments) =>
        Launch("calm", ["--root", Places.Root, .. arguments], environment);

    public Process Open(params string[] arguments) => Open([], arguments);

    /// <summary>From now on, programs are those in another directory; null: those as they ship.</summary>
    public void Use(string? directory) => binaries = directory ?? Out;

    public string Program(string name) => Path.Combine(binaries, name);

    /// <summary>A command that must come true.</summary>
    public async Task<Said> Ok(params string[] arguments)
    {
        var said = await Calm(arguments);
        Assert.True(said.Exit == 0, $"calm {string.Join(' ', arguments)} ended with {said.Exit}: {said.Told}");
        return said;
    }

    public Task<Said> Wrap(string name, params string[] rest) => Ok(["wrap", name, "--account", Account, .. rest]);

    public async Task<JsonElement> Show(string name) => (await Ok("show", name, "--json")).Json;

    /// <summary>A name that no account of this host has: a trial that was cut off may have left its own.</summary>
    public static string NewAccount() => $"calm-t{Guid.NewGuid().ToString("N")[..8]}";

    /// <summary>A call of the API and its answer as JSON.</summary>
    public async Task<JsonElement> Call(HttpMethod method, string path, string? body = null)
    {
        using var client = Http();
        using var request = new HttpRequestMessage(method, $"http://sentry/api/{path}")
        {
            Content = body is null
                ? null
                : new StringContent(
                    body,
                    Encoding.UTF8,
                    body.StartsWith('{') ? "application/json" : "application/yaml"
                ),
        };
        using var response = await client.SendAsync(request);
        return JsonDocument.Parse(await response.Content.ReadAsStringAsync()).RootElement;
    }

    /// <summary>Waits, by the live events, until a service is as wanted.</summary>
    public async Task<JsonElement> Until(
        string name,
        Func<JsonElement, bool> met,
        [System.Runtime.CompilerServices.CallerArgumentExpression(nameof(met))] string what = ""
    )
    {
        using var client = Http();
        using var limit = new CancellationTokenSource(Limit);
        using var reader = new StreamReader(await client.GetStreamAsync("http://sentry/api/events", limit.Token));
        var last = "nothing";
        using var wait = new Waiting($"{name}: {what}", () => last);
        try
        {
            while (await reader.ReadLineAsync(limit.Token) is { } line)
            {
                if (!line.StartsWith("data:", StringComparison.Ordinal))
                    continue;
                var data = JsonDocument.Parse(line[5..]).RootElement;
                foreach (
                    var view in data.ValueKind == JsonValueKind.Array ? [.. data.EnumerateArray()] : new[] { data }
                )
                {
                    if (
                        view.ValueKind != JsonValueKind.Object
                        || !view.TryGetProperty("state", out _)
                        || view.GetProperty("name").GetString() != name
                    )
                        continue;
                    last = view.GetRawText();
                    if (met(view))
                        return view;
                }
            }
        }
        catch (OperationCanceledException)
        {
            // Told below.
        }

        Assert.Fail($"{name} never came to be as wanted; last seen: {last}");
        return default;
    }

    /// <summary>
    /// For what no event tells: asked again and again, and failed rather than waited for without end.
    /// </summary>
    /// <param name="never">Why it cannot come true any more, asked each second; null while it can.</param>
    public static async Task Eventually(
        Func<Task<bool>> met,
        Func<string?>? never = null,
        [System.Runtime.CompilerServices.CallerArgumentExpression(nameof(met))] string what = ""
    )
    {
        using var wait = new Waiting(what);
        var asked = Stopwatch.StartNew();
        while (!await met())
        {
            Assert.True(wait.Elapsed < Limit, $"it never came true: {what}");
            if (asked.Elapsed > TimeSpan.FromSeconds(1) && never is not null)
            {
                if (never() is { } why)
                    Assert.Fail($"it cannot come true: {what}: {why}");
                asked.Restart();
            }

            await Task.Delay(BetweenLooks); // another process has to get on: looking takes its time away
        }
    }

    public static Task Eventually(
        Func<bool> met,
        Func<string?>? never = null,
        [System.Runtime.CompilerServices.CallerArgumentExpression(nameof(met))] string what = ""
    ) => Eventually(() => Task.FromResult(met()), never, what);

    public HttpClient Http() =>
        new(
            new SocketsHttpHandler
            {
                ConnectCallback = async (_, cancellation) =>
                {
                    var socket = new System.Net.Sockets.Socket(
                        System.Net.Sockets.AddressFamily.Unix,
                        System.Net.Sockets.SocketType.Stream,
                        System.Net.Sockets.ProtocolType.Unspecified
                    );
                    await socket.ConnectAsync(
                        new System.Net.Sockets.UnixDomainSocketEndPoint(Places.ApiSocket),
                        cancellation
                    );
                    return new System.Net.Sockets.NetworkStream(socket, ownsSocket: true);
                },
            }
        );

    /// <summary>A script for a service to run, readable by its account.</summary>
    public string Script(string name, string text, bool executable = true)
    {
        var path = Path.Combine(Places.Root, name);
        File.WriteAllText(path, text);
        File.SetUnixFileMode(path, (UnixFileMode)(executable ? 0b111_101_101 : 0b110_100_100));
        return path;
    }

    /// <summary>A command as another account of this machine, left running.</summary>
    public static Process Began(string account, params string[] command)
    {
        string[] line =
        [
            "setpriv",
            $"--reuid={account}",
            $"--regid={(account == "nobody" ? "nogroup" : account)}",
            "--clear-groups",
            .. command,
        ];
        return Process.Start(
            new ProcessStartInfo(line[0], line[1..])
            {
                WorkingDirectory = "/",
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
    }

    /// <summary>The client as root, asked by whoever logged in as that account (proc(5), loginuid).</summary>
    public Task<Said> BehindSudo(string login, params string[] arguments) =>
        As(
            "root",
            [
                "sh",
                "-c",
                $"echo {uint.MaxValue} >/proc/self/loginuid; echo $(id -u {login}) >/proc/self/loginuid || exit 9; exec \"$@\"",
                "sh",
                Program("calm"),
                "--root",
                Places.Root,
                .. arguments,
            ]
        );

    /// <summary>The same, to its end.</summary>
    public static async Task<Said> As(string account, params string[] command)
    {
        using var process = Began(account, command);
        var output = process.StandardOutput.ReadToEndAsync();
        var error = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync().InTime();
        return new(process.ExitCode, await output, await error);
    }

    /// <summary>Ends what was left running, by its number, and waits for its end.</summary>
    public static async Task End(Process process)
    {
        if (!process.HasExited)
            process.Kill(entireProcessTree: true);
        await process.WaitForExitAsync();
        process.Dispose();
    }

    /// <summary>A service's id, as directories have it.</summary>
    public async Task<string> Id(string service) =>
        $"S{(await Ok("show", service, "--json")).Json.GetProperty("id").GetInt64()}";

    /// <summary>Every process that carries the mark of one of this sentry's runs.</summary>
    public IReadOnlyList<int> Processes(string service) =>
        [
            .. Directory
                .EnumerateDirectories("/proc")
                .Select(Path.GetFileName)
                .Where(name => name!.All(char.IsAsciiDigit))
                .Select(int.Parse!)
                .Where(pid =>
                    $"\0{Read($"/proc/{pid}/environ")}" is var variables
                    && variables.Contains($"\0CALM_RUN={Places.RunDirectory}:", StringComparison.Ordinal)
                    && variables.Contains($"\0CALM_SERVICE={service}\0", StringComparison.Ordinal)
                ),
        ];

    public static bool Lives(int pid) =>
        Read($"/proc/{pid}/stat") is { Length: > 0 } stat && !stat.Contains(") Z ", StringComparison.Ordinal);

    /// <summary>What a process was begun with, parted by NUL; empty where it has ended meanwhile.</summary>
    public static string CommandLine(int pid) => Read($"/proc/{pid}/cmdline");

    /// <summary>Whose child a process is: of a program, its keeper; 0 where it has ended meanwhile.</summary>
    public static int Parent(int pid) =>
        Read($"/proc/{pid}/stat") is { Length: > 0 } stat
            ? int.Parse(
                stat[(stat.LastIndexOf(')') + 4)..].Split(' ')[0],
                System.Globalization.CultureInfo.InvariantCulture
            )
            : 0;

    /// <summary>Directory of the version 2 control group a process is in, or null where the host has none.</summary>
    public static string? Group(int pid) =>
        File.ReadLines("/proc/self/mounts").Select(line => line.Split(' ')).FirstOrDefault(part => part[2] == "cgroup2")
            is { } mount
        && File.ReadLines($"/proc/{pid}/cgroup")
            .FirstOrDefault(line => line.StartsWith("0::/", StringComparison.Ordinal))
            is { } own
            ? mount[1] + own[3..]
            : null;

    public static void Kill(int pid, string signal = "KILL")
    {
        Assert.True(pid > 0, "a process to be ended has a number: 0 would be the tests themselves");
        Process.Start("kill", ["-" + signal, $"{pid}"]).WaitForExit();
    }

    /// <summary>A TCP port nobody has now.</summary>
    public static int FreePort()
    {
        using var listener = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, 0);
        listener.Start();
        return ((System.Net.IPEndPoint)listener.LocalEndpoint).Port;
    }

    /// <summary>Sends a line to a port and reads the answer's first line.</summary>
    public static async Task<string> Talk(int port, string line)
    {
        using var client = new System.Net.Sockets.TcpClient();
        await client.ConnectAsync("127.0.0.1", port);
        var stream = client.GetStream();
        await stream.WriteAsync(Encoding.ASCII.GetBytes(line + "\r\n"));
        using var reader = new StreamReader(stream);
        return await reader.ReadLineAsync() ?? "";
    }

    public async ValueTask DisposeAsync()
    {
        if (server!.HasExited && !guarded)
            await Serve();
        await Calm("stop", "--all");
        var last = guarded ? await Guard() : server.Id;
        Kill(last, "TERM");
        if (guarded)
            await Eventually(() => !Lives(last));
        else
            await server.WaitForExitAsync();
        // A keeper that was just being started for the next run makes its place, finds nobody, and leaves.
        await Eventually(() => IsRemoved(Places.Root));
    }

    private static bool IsRemoved(string directory)
    {
        try
        {
            Directory.Delete(directory, recursive: true);
            return true;
        }
        catch (DirectoryNotFoundException)
        {
            return true;
        }
        catch (IOException)
        {
            return false;
        }
    }

    private Process Launch(string program, string[] arguments, Dictionary<string, string>? environment = null)
    {
        // Tests begun in the background may have the interrupt signal ignored, and what they start would inherit that.
        string[] line = ["env", "--default-signal=INT", .. before, Path.Combine(binaries, program), .. arguments];
        var start = new ProcessStartInfo(line[0], line[1..])
        {
            WorkingDirectory = Places.Root,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
        };
        start.Environment.Remove(Places.Variable);
        foreach (var (name, value) in environment ?? [])
            start.Environment[name] = value;
        return Process.Start(start)!;
    }

    private static string Read(string path)
    {
        try
        {
            return File.ReadAllText(path);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }

    private static string FindRepository()
    {
        var directory = new DirectoryInfo(AppContext.BaseDirectory);
        while (!File.Exists(Path.Combine(directory!.FullName, "build.sh")))
            directory = directory.Parent;
        return directory.FullName;
    }
}
