using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// A machine within this one: a minimal Debian whose own init runs as process 1 in namespaces of its own. Its disk
/// outlives its boots.
/// </summary>
internal sealed class BootedMachine : IAsyncDisposable
{
    private readonly string place = Directory.CreateTempSubdirectory("calm's boot ").FullName;
    private readonly string group;
    private Process? machine;

    private BootedMachine()
    {
        group = Path.Combine(
            Directory.Exists("/sys/fs/cgroup/unified") ? "/sys/fs/cgroup/unified" : "/sys/fs/cgroup",
            Path.GetFileName(place)
        );
        foreach (var directory in new[] { "upper", "work", "root" })
            Directory.CreateDirectory(Path.Combine(place, directory));
    }

    private string Root => Path.Combine(place, "root");

    /// <summary>A machine with the built programs in /opt/calm, not booted yet.</summary>
    public static BootedMachine Make()
    {
        var made = Path.Combine(
            Environment.GetEnvironmentVariable("XDG_CACHE_HOME")
                ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".cache"),
            "calm-sentry-tests",
            "root"
        );
        Must("sh", Path.Combine(Sentry.Repository, "tests/EndToEnd/boot/make-root.sh"), made);
        var machine = new BootedMachine();
        Must(
            "mount",
            "-t",
            "overlay",
            "overlay",
            "-o",
            $"lowerdir={made},upperdir={machine.place}/upper,workdir={machine.place}/work",
            machine.Root
        );
        var programs = Directory.CreateDirectory(Path.Combine(machine.Root, "opt", "calm")).FullName;
        Must("cp", ["-r", .. Directory.GetFiles(Sentry.Out), Path.Combine(Sentry.Out, "console"), programs]);
        return machine;
    }

    public void Write(string path, string text)
    {
        File.WriteAllText(Root + path, text);
        File.SetUnixFileMode(Root + path, (UnixFileMode)0b111_101_101);
    }

    public string Read(string path) => File.ReadAllText(Root + path);

    public bool Has(string path) => Path.Exists(Root + path) || new FileInfo(Root + path).LinkTarget is not null;

    public async Task Boot()
    {
        machine = Process.Start(
            new ProcessStartInfo("sh", [Path.Combine(Sentry.Repository, "tests/EndToEnd/boot/machine.sh"), Root, group])
            {
                RedirectStandardInput = true,
            }
        )!;
        // The host's own word for how far its init is: none, until it is up.
        await Sentry.Eventually(async () =>
            (await Run("/sbin/runlevel")) is { Exit: 0, Output: var level }
            && !level.Contains("unknown", StringComparison.Ordinal)
        );
    }

    /// <summary>Gives it an address and a default route, as a cable that is plugged in.</summary>
    public async Task PlugIn()
    {
        foreach (
            var command in new[]
            {
                "tuntap add dev quay0 mode tun",
                "addr add 192.0.2.7/24 dev quay0",
                "link set quay0 up",
                "route add default via 192.0.2.1",
            }
        )
            Must("nsenter", [$"--target={await Init()}", "--net", "ip", .. command.Split(' ')]);
    }

    /// <summary>Its process 1, as this host numbers it; empty while it is not up.</summary>
    private async Task<string> Init() =>
        File.Exists($"/proc/{machine!.Id}/task/{machine.Id}/children")
            ? (await File.ReadAllTextAsync($"/proc/{machine.Id}/task/{machine.Id}/children")).Trim()
            : "";

    /// <summary>A command inside, as root, with nobody logged in.</summary>
    public async Task<Said> Run(params string[] command)
    {
        if (await Init() is not { Length: > 0 } init)
            return new(1, "", "not up");
        using var process = Process.Start(
            new ProcessStartInfo(
                "nsenter",
                [
                    $"--target={init}",
                    "--mount",
                    "--uts",
                    "--ipc",
                    "--net",
                    "--pid",
                    "--cgroup",
                    "--root",
                    "--wdns=/",
                    "env",
                    "-i",
                    "HOME=/root",
                    "PATH=/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
                    .. command,
                ]
            )
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
                RedirectStandardInput = true,
            }
        )!;
        process.StandardInput.Close();
        var output = process.StandardOutput.ReadToEndAsync();
        var error = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync().InTime();
        return new(process.ExitCode, await output, await error);
    }

    public async Task<Said> Ok(params string[] command)
    {
        var said = await Run(command);
        Assert.True(said.Exit == 0, $"{string.Join(' ', command)} ended with {said.Exit}: {said.All}");
        return said;
    }

    /// <summary>
    /// Waits for the machine to have gone down, and returns the number of the signal that ended its process 1.
    /// </summary>
    public async Task<int> Down()
    {
        await machine!.WaitForExitAsync().InTime();
        return machine.ExitCode - 128;
    }

    /// <summary>The power is gone.</summary>
    public async Task Cut()
    {
        machine!.Kill();
        await machine.WaitForExitAsync();
        await Sentry.Eventually(() =>
            !File.Exists(Path.Combine(group, "cgroup.procs"))
            || File.ReadAllText(Path.Combine(group, "cgroup.events")).Contains("populated 0", StringComparison.Ordinal)
        );
    }

    public async ValueTask DisposeAsync()
    {
        if (machine is { HasExited: false })
            await Cut();
        Process.Start("umount", ["-l", Root]).WaitForExit();
        Process.Start("find", [group, "-depth", "-type", "d", "-exec", "rmdir", "{}", ";"]).WaitForExit();
        Directory.Delete(place, recursive: true);
    }

    private static void Must(string program, params string[] arguments)
    {
        using var process = Process.Start(program, arguments);
        process.WaitForExit();
        Assert.True(process.ExitCode == 0, $"{program} {string.Join(' ', arguments)} ended with {process.ExitCode}");
    }
}
