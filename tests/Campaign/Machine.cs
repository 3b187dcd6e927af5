using System.Diagnostics;
using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Tests.Campaign;

/// <summary>What a command printed and how it ended.</summary>
internal sealed record Said(int Exit, string Output, string Error, TimeSpan Took);

/// <summary>A guarded sentry with its own root, and what is asked of it through the real client.</summary>
internal sealed class Machine(string programs) : IAsyncDisposable
{
    private static readonly TimeSpan CommandLimit = TimeSpan.FromSeconds(90);

    public Places Places { get; } = new(Directory.CreateTempSubdirectory("calm-campaign-").FullName);

    /// <summary>Where the programs under trial meet.</summary>
    public string Witness => Path.Combine(Places.Root, "witness");

    public string Account { get; } = Environment.UserName == "root" ? "nobody" : Environment.UserName;

    /// <summary>Bytes left on the disk of its store.</summary>
    public long Room => new DriveInfo(Places.Library).AvailableFreeSpace;

    /// <summary>Control groups that the sentry has made.</summary>
    public int Groups =>
        ControlGroups.Find(Places.RunDirectory).Directory is { } all ? Count(Directory.EnumerateDirectories, all) : 0;

    /// <summary>Files in the run directory.</summary>
    public int RunFiles => Count(Directory.EnumerateFiles, Places.RunDirectory);

    public bool IsRoot { get; } = Environment.UserName == "root";

    public async Task Begin()
    {
        File.SetUnixFileMode(Places.Root, (UnixFileMode)0b111_101_101);
        Directory.CreateDirectory(Witness);
        File.SetUnixFileMode(Witness, (UnixFileMode)0b111_111_111);
        Directory.CreateDirectory(Places.Library);
        if (IsRoot) // so that its disk can be filled
            await Process
                .Start("mount", ["-t", "tmpfs", "-o", "size=512m,mode=711", "small", Places.Library])
                .WaitForExitAsync()
                .ConfigureAwait(false);
        Directory.CreateDirectory(Places.RunDirectory);
        BeginGuard();
        Must(await Calm("host", "status", "--wait", "30s").ConfigureAwait(false));
        if (IsRoot)
            Must(await Calm("account", "permit", Account).ConfigureAwait(false));
        var script = Path.Combine(Places.Root, "tempers.pl");
        File.Copy(Path.Combine(AppContext.BaseDirectory, "tempers.pl"), script);
        File.SetUnixFileMode(script, (UnixFileMode)0b111_101_101);
        foreach (var member in Fleet.All)
        {
            var file = Path.Combine(Places.Root, member.Name + ".yaml");
            await File.WriteAllTextAsync(file, member.Definition(Account, script, Witness)).ConfigureAwait(false);
            Must(await Calm("wrap", "--from", file).ConfigureAwait(false));
        }

        Must(await Calm("start", "--all").ConfigureAwait(false));
    }

    /// <summary>Starts a guard, as the host's own start would; one that finds another leaves by itself.</summary>
    public void BeginGuard()
    {
        var start = new ProcessStartInfo(
            Path.Combine(programs, "calm-keeper"),
            [
                "guard",
                Places.RunDirectory,
                Path.Combine(programs, "calm-sentry"),
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
        var guard = Process.Start(start)!;
        guard.OutputDataReceived += (_, _) => { };
        guard.ErrorDataReceived += (_, _) => { };
        guard.BeginOutputReadLine();
        guard.BeginErrorReadLine();
    }

    public async Task<Said> Calm(params string[] arguments)
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
        using var limit = new CancellationTokenSource(CommandLimit);
        try
        {
            await process.WaitForExitAsync(limit.Token).ConfigureAwait(false);
        }
        catch (OperationCanceledException)
        {
            process.Kill();
            return new(-1, "", $"no answer within {CommandLimit.TotalSeconds:0} s", CommandLimit);
        }

        return new(
            process.ExitCode,
            await output.ConfigureAwait(false),
            await error.ConfigureAwait(false),
            Stopwatch.GetElapsedTime(began)
        );
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

    public IEnumerable<int> Keepers => Processes("calm-keeper", "keep");

    /// <summary>Every process of a run of this sentry: its pid, the service's id, and the run's number.</summary>
    public IReadOnlyList<(int Pid, string Id, long Run)> Marked() =>
        [
            .. ProcessFacts
                .ValuesOf("CALM_RUN")
                .Where(mark => mark.Value.StartsWith(Places.RunDirectory + ":", StringComparison.Ordinal))
                .Where(mark => ProcessFacts.Lives(mark.Pid))
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
        Signal(Guard, terminate);
        for (var tries = 0; tries < 200 && ProcessFacts.Lives(Guard); tries++)
            await Task.Delay(20).ConfigureAwait(false);
        foreach (var (pid, _, _) in Marked())
            Signal(pid, kill);
        foreach (var keeper in Keepers.ToList())
            Signal(keeper, kill);
        if (IsRoot)
            await Process.Start("umount", ["-l", Places.Library]).WaitForExitAsync().ConfigureAwait(false);
        Directory.Delete(Places.Root, recursive: true);
    }

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

    private static void Must(Said said)
    {
        if (said.Exit != 0)
            throw new InvalidOperationException($"the campaign cannot begin: {said.Error}{said.Output}");
    }
}
