using System.Collections.Concurrent;
using System.Diagnostics;
using System.Net.Sockets;
using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Campaign;

/// <summary>What a command printed and how it ended.</summary>
internal sealed record Said(int Exit, string Output, string Error, TimeSpan Took);

/// <summary>A guarded sentry with its own root, and what is asked of it through the real client.</summary>
internal sealed class Machine(string programs) : IAsyncDisposable
{
    private static readonly TimeSpan CommandLimit = TimeSpan.FromSeconds(90);

    public Places Places { get; } = new(Directory.CreateTempSubdirectory("calm's campaign ").FullName);

    /// <summary>Where the programs under trial meet.</summary>
    public string Witness => Path.Combine(Places.Root, "witness");

    private readonly Lock bringing = new();

    /// <summary>Where the client is.</summary>
    public string Client => programs;

    /// <summary>Directory of the programs that are tried: its own, so that their files can be replaced and taken away.</summary>
    private string Programs => Path.Combine(Places.Root, "programs");

    public string Program(string name) => Path.Combine(Programs, name);

    /// <summary>How far the server's clock is off, as faketime(1) reads it; null: it cannot be set here.</summary>
    public string? Clock { get; private set; }

    /// <summary>The control group whose processes, all of the sentry's, can be limited in number; null: there is none.</summary>
    public string? ProcessCeiling { get; private set; }

    public string Account { get; } = Environment.UserName == "root" ? "nobody" : Environment.UserName;

    /// <summary>Directories with a small disk of their own, so that it can be filled: the store's, and that above the run directory.</summary>
    public IReadOnlyList<string> Disks => [Places.Library, Path.GetDirectoryName(Places.RunDirectory)!];

    /// <summary>Bytes left on the disk of a directory.</summary>
    public static long Room(string directory) => new DriveInfo(directory).AvailableFreeSpace;

    /// <summary>Control groups that the sentry has made.</summary>
    public int Groups =>
        ControlGroups.Find(Places.RunDirectory).Directory is { } all ? Count(Directory.EnumerateDirectories, all) : 0;

    /// <summary>Files in the run directory.</summary>
    public int RunFiles => Count(Directory.EnumerateFiles, Places.RunDirectory);

    /// <summary>Asks the sentry as this account; each time whoever serves then.</summary>
    public HttpClient Http(TimeSpan timeout) =>
        new(
            new SocketsHttpHandler
            {
                ConnectCallback = async (_, cancellation) =>
                {
                    var socket = new Socket(AddressFamily.Unix, SocketType.Stream, ProtocolType.Unspecified);
                    try
                    {
                        await socket
                            .ConnectAsync(new UnixDomainSocketEndPoint(Places.ApiSocket), cancellation)
                            .ConfigureAwait(false);
                        return new NetworkStream(socket, ownsSocket: true);
                    }
                    catch (SocketException)
                    {
                        socket.Dispose();
                        throw;
                    }
                },
                PooledConnectionLifetime = TimeSpan.Zero, // each asks whoever serves then
            }
        )
        {
            BaseAddress = new("http://localhost"),
            Timeout = timeout,
        };

    public bool IsRoot { get; } = Environment.UserName == "root";

    /// <summary>Folders that are granted to the account and taken back.</summary>
    public IReadOnlyList<string> Granted =>
        [.. Enumerable.Range(1, 3).Select(i => Path.Combine(Places.Root, "granted", $"book {i}"))];

    /// <summary>Every right in them before any was granted, as getfacl(1) has it.</summary>
    public string RightsAtFirst { get; private set; } = "";

    public async Task<string> Rights()
    {
        using var asked = Process.Start(
            new ProcessStartInfo("getfacl", ["-R", "-p", "-n", Path.Combine(Places.Root, "granted")])
            {
                RedirectStandardOutput = true,
            }
        )!;
        var rights = await asked.StandardOutput.ReadToEndAsync().ConfigureAwait(false);
        await asked.WaitForExitAsync().ConfigureAwait(false);
        return rights;
    }

    public async Task Begin()
    {
        File.SetUnixFileMode(Places.Root, (UnixFileMode)0b111_101_101);
        Directory.CreateDirectory(Witness);
        File.SetUnixFileMode(Witness, (UnixFileMode)0b111_111_111);
        foreach (var (disk, size) in Disks.Zip((string[])["512m", "64m"]))
        {
            Directory.CreateDirectory(disk);
            if (IsRoot)
                await Process
                    .Start("mount", ["-t", "tmpfs", "-o", $"size={size},mode=711", "small", disk])
                    .WaitForExitAsync()
                    .ConfigureAwait(false);
        }

        Directory.CreateDirectory(Places.RunDirectory);
        Directory.CreateDirectory(Programs);
        BringPrograms();
        Directory.CreateSymbolicLink(Program("console"), Path.Combine(programs, "console"));
        BeginGuard();
        Must(await Calm("host", "status", "--wait", "30s").ConfigureAwait(false));
        if (IsRoot)
        {
            Must(await Calm("account", "permit", Account).ConfigureAwait(false));
            foreach (var folder in Granted)
                for (var i = 0; i < 300; i++)
                {
                    var page = Path.Combine(
                        Directory.CreateDirectory(Path.Combine(folder, $"{i % 7}")).FullName,
                        $"{i}"
                    );
                    await File.WriteAllTextAsync(page, "herring").ConfigureAwait(false);
                    File.SetUnixFileMode(page, (UnixFileMode)(i % 2 == 0 ? 0b110_000_000 : 0b111_101_000));
                }

            RightsAtFirst = await Rights().ConfigureAwait(false);
        }

        var script = Path.Combine(Places.Root, "tempers.pl");
        File.Copy(Path.Combine(AppContext.BaseDirectory, "tempers.pl"), script);
        File.SetUnixFileMode(script, (UnixFileMode)0b111_101_101);
        var days = Fleet.DaysIn(Places.Root);
        await File.WriteAllTextAsync(days, "2020-01-01\n").ConfigureAwait(false);
        foreach (var member in Fleet.All)
        {
            if (member.Rotates)
                File.SetUnixFileMode(
                    Directory.CreateDirectory(member.OwnLogIn(Witness)).FullName,
                    (UnixFileMode)0b111_111_111
                );
            var file = Path.Combine(Places.Root, member.Name + ".yaml");
            var own = member.Swaps ? Path.Combine(Files(HomeOf(member), 0, bad: false), "tempers.pl") : script;
            await File.WriteAllTextAsync(file, member.Definition(Account, own, Witness, days)).ConfigureAwait(false);
            Must(await Calm("wrap", "--from", file).ConfigureAwait(false));
        }

        Must(await Calm("start", "--all").ConfigureAwait(false));
    }

    /// <summary>Where the files of one lie that gets new ones.</summary>
    public string HomeOf(Member member) => Path.Combine(Places.Root, "srv", member.Name);

    /// <summary>Files for one: the program, and two beside it that must be of one version.</summary>
    public static string Files(string directory, int number, bool bad)
    {
        Directory.CreateDirectory(directory);
        var script = Path.Combine(directory, "tempers.pl");
        File.Copy(Path.Combine(AppContext.BaseDirectory, "tempers.pl"), script);
        File.SetUnixFileMode(script, (UnixFileMode)0b111_101_101);
        foreach (var name in (string[])["first", "second"])
            File.WriteAllText(Path.Combine(directory, name), $"{number}{(bad ? " bad" : "")}");
        return directory;
    }

    /// <summary>Puts the programs in as an upgrade does: beside the old ones, and then in their place.</summary>
    public void BringPrograms()
    {
        lock (bringing)
            foreach (var file in Directory.GetFiles(programs).Select(Path.GetFileName))
            {
                File.Copy(Path.Combine(programs, file!), Program(file + ".new"), overwrite: true);
                File.Move(Program(file + ".new"), Program(file!), overwrite: true);
            }
    }

    /// <summary>Starts a guard, as the host's own start would; its server lives by a clock that can be set.</summary>
    private void BeginGuard()
    {
        const string limited = "/sys/fs/cgroup/pids";
        if (IsRoot && File.Exists(Path.Combine(limited, "cgroup.procs")))
            ProcessCeiling = Directory.CreateDirectory(Path.Combine(limited, Path.GetFileName(Places.Root))).FullName;
        // The shell, so that the guard is in the group from its first moment on.
        var start = new ProcessStartInfo(
            "/bin/sh",
            [
                "-c",
                ProcessCeiling is null ? "exec \"$@\"" : "echo $$ >\"$0/cgroup.procs\"; exec \"$@\"",
                ProcessCeiling ?? "sh",
                Program("calm-keeper"),
                "guard",
                Places.RunDirectory,
                Program("calm-sentry"),
                "serve",
                "--root",
                Places.Root,
                "--port",
                "0",
            ]
        )
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        var faketime = Directory
            .GetDirectories("/usr/lib")
            .Select(place => Path.Combine(place, "faketime", "libfaketime.so.1"))
            .FirstOrDefault(File.Exists);
        if (faketime is not null)
        {
            Clock = Path.Combine(Places.Root, "clock");
            File.WriteAllText(Clock, "+0\n");
            start.Environment["LD_PRELOAD"] = faketime;
            start.Environment["FAKETIME_TIMESTAMP_FILE"] = Clock;
            start.Environment["FAKETIME_CACHE_DURATION"] = "1";
            start.Environment["FAKETIME_DONT_FAKE_MONOTONIC"] = "1";
            // Else whoever waits by that clock waits for a moment that has always passed, and takes a whole processor.
            start.Environment["FAKETIME_FORCE_MONOTONIC_FIX"] = "0";
            start.Environment["NO_FAKE_STAT"] = "1";
        }

        var guard = Process.Start(start)!;
        guard.OutputDataReceived += (_, line) => Hear(line.Data);
        guard.ErrorDataReceived += (_, line) => Hear(line.Data);
        guard.BeginOutputReadLine();
        guard.BeginErrorReadLine();
    }

    /// <summary>What guard and server said last of themselves.</summary>
    public IReadOnlyList<string> LastWords => [.. heard];

    private readonly ConcurrentQueue<string> heard = [];

    private void Hear(string? line)
    {
        const int most = 30;
        if (line is null)
            return;
        heard.Enqueue(line);
        if (heard.Count > most)
            _ = heard.TryDequeue(out _);
    }

    public Task<Said> Calm(params string[] arguments) => Calm(CommandLimit, arguments);

    /// <param name="limit">How long it may take: then it is killed.</param>
    public async Task<Said> Calm(TimeSpan limit, params string[] arguments)
    {
        var began = Stopwatch.GetTimestamp();
        using var process = Process.Start(
            new ProcessStartInfo(Path.Combine(programs, "calm"), ["--root", Places.Root, .. arguments])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
                RedirectStandardInput = true,
            }
        )!;
        process.StandardInput.Close();
        var (output, error) = (process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        using var over = new CancellationTokenSource(limit);
        try
        {
            await process.WaitForExitAsync(over.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            process.Kill();
            return new(-1, "", $"no answer within {limit.TotalSeconds:0} s", limit);
        }

        return new(
            process.ExitCode,
            await output.ConfigureAwait(false),
            await error.ConfigureAwait(false),
            Stopwatch.GetElapsedTime(began)
        );
    }

    /// <summary>Where a copy of the store lies that was kept while all was at rest.</summary>
    public string KeptStore => Path.Combine(Places.Root, "kept-store.db");

    public async Task KeepStore()
    {
        await using var store = new SqliteConnection($"Data Source={Places.Database};Mode=ReadOnly;Pooling=False");
        await using var copy = new SqliteConnection($"Data Source={KeptStore}.new;Pooling=False");
        await store.OpenAsync().ConfigureAwait(false);
        await copy.OpenAsync().ConfigureAwait(false);
        store.BackupDatabase(copy);
        await copy.CloseAsync().ConfigureAwait(false);
        File.Move(KeptStore + ".new", KeptStore, overwrite: true);
    }

    /// <summary>All services as the sentry sees them; null while it cannot be asked.</summary>
    public async Task<IReadOnlyList<JsonElement>?> List() =>
        await Calm("list", "--json").ConfigureAwait(false) is { Exit: 0 } said
            ? [.. JsonDocument.Parse(said.Output).RootElement.EnumerateArray()]
            : null;

    public int Guard => Number(Places.Guard);

    public int Server => Number(Places.ServerPid);

    /// <summary>Processes of a kind that work for this root.</summary>
    public IEnumerable<int> Processes(string program, string word) =>
        ProcessFacts
            .All()
            .Where(pid =>
                ProcessFacts.CommandLine(pid) is [var first, var second, ..] line
                && Path.GetFileName(first) == program
                && second == word
                && line.Any(part => part.StartsWith(Places.Root, StringComparison.Ordinal))
            );

    /// <summary>Whether the guard has a second that is ready to take its place (its name is set when it is).</summary>
    public bool HasSecond =>
        Processes("calm-keeper", "guard-second").Any(pid => ProcessFacts.Status(pid, "Name") == "calm-keeper");

    public IEnumerable<int> Keepers => Processes("calm-keeper", "keep");

    /// <summary>An account that only says that its processes are a run's (Debian's bin).</summary>
    public const uint Stranger = 2;

    /// <summary>Every process of a run of this sentry: its pid, the service's id, and the run's number.</summary>
    public IReadOnlyList<(int Pid, string Id, long Run)> Marked() =>
        [
            .. ProcessFacts
                .ValuesOf("CALM_RUN")
                .Where(mark => mark.Value.StartsWith(Places.RunDirectory + ":", StringComparison.Ordinal))
                .Where(mark => ProcessFacts.Lives(mark.Pid) && ProcessFacts.EffectiveUser(mark.Pid) != Stranger)
                .Select(mark => (mark.Pid, mark.Value[(Places.RunDirectory.Length + 1)..].Split(':')))
                .Where(mark => mark.Item2 is [_, _])
                .Select(mark =>
                    (
                        mark.Pid,
                        mark.Item2[0],
                        long.Parse(mark.Item2[1], System.Globalization.CultureInfo.InvariantCulture)
                    )
                ),
        ];

    public static void Signal(int pid, int number)
    {
        if (pid > 1)
            _ = ProcessFacts.Signal(pid, number);
    }

    public async ValueTask DisposeAsync()
    {
        const int kill = 9,
            terminate = 15;
        _ = await Calm("stop", "--all").ConfigureAwait(false);
        // Not by its file: that may have been wiped just now.
        for (var tries = 0; tries < 400 && Guards() is { Count: > 0 } guards; tries++)
        {
            foreach (var guard in guards)
                Signal(guard, tries < 200 ? terminate : kill);
            await Task.Delay(20).ConfigureAwait(false);
        }

        foreach (var server in Processes("calm-sentry", "serve").ToList())
            Signal(server, kill);
        foreach (var (pid, _, _) in Marked())
            Signal(pid, kill);
        foreach (var keeper in Keepers.ToList())
            Signal(keeper, kill);
        if (IsRoot)
            await Process.Start("umount", ["-l", .. Disks]).WaitForExitAsync().ConfigureAwait(false);
        Directory.Delete(Places.Root, recursive: true);
        if (ProcessCeiling is not null && File.ReadAllText(Path.Combine(ProcessCeiling, "cgroup.procs")).Length == 0)
            Directory.Delete(ProcessCeiling);
    }

    /// <summary>Every process of the sentry's own.</summary>
    public List<int> Own() => [.. Guards(), .. Processes("calm-sentry", "serve"), .. Keepers];

    private List<int> Guards() =>
        [.. Processes("calm-keeper", "guard-on"), .. Processes("calm-keeper", "guard-second")];

    private static int Count(Func<string, string, SearchOption, IEnumerable<string>> entries, string directory)
    {
        try
        {
            return entries(directory, "*", SearchOption.AllDirectories).Count();
        }
        catch (IOException)
        {
            return -1; // one went meanwhile
        }
    }

    private static int Number(string file)
    {
        try
        {
            return int.TryParse(File.ReadAllText(file).Trim(), out var pid) ? pid : 0;
        }
        catch (IOException)
        {
            return 0;
        }
    }

    private void Must(Said said)
    {
        if (said.Exit != 0)
            throw new InvalidOperationException(
                $"the campaign cannot begin: {said.Error}{said.Output}\n{string.Join('\n', LastWords)}"
            );
    }
}
