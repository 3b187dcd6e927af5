using System.Diagnostics;

namespace CalmSentry.Tests.PowerCuts;

/// <summary>A machine that an emulator runs; its disk outlives its boots.</summary>
internal sealed class Machine : IDisposable
{
    private readonly string place = Directory.CreateTempSubdirectory("calm-power-").FullName;

    public static async Task<Machine> Make(string programs)
    {
        var machine = new Machine();
        var cache = Path.Combine(
            Environment.GetEnvironmentVariable("XDG_CACHE_HOME")
                ?? Path.Combine(Environment.GetFolderPath(Environment.SpecialFolder.UserProfile), ".cache"),
            "calm-sentry-tests",
            "power"
        );
        using var make = Process.Start(
            "sh",
            [Path.Combine(AppContext.BaseDirectory, "guest", "make-disk.sh"), cache, programs, machine.place]
        );
        await make.WaitForExitAsync().ConfigureAwait(false);
        return make.ExitCode == 0
            ? machine
            : throw new InvalidOperationException($"the machine was not made: make-disk.sh ended with {make.ExitCode}");
    }

    /// <param name="boot">Which boot this is, from 0.</param>
    public Power PowerOn(int seed, int boot)
    {
        string[] lines = [Path.Combine(place, "asks"), Path.Combine(place, "programs")];
        foreach (var line in lines)
            File.WriteAllText(line, "");
        string[] arguments =
        [
            .. "-accel tcg -cpu max -smp 2 -m 768 -display none -monitor none -nic none -no-reboot".Split(' '),
            .. lines.SelectMany(line => new[] { "-serial", $"file:{line}" }),
            "-kernel",
            Path.Combine(place, "vmlinuz"),
            "-initrd",
            Path.Combine(place, "first.cpio"),
            "-append",
            $"console=ttyS0 quiet loglevel=1 asks={seed},{boot}",
            "-drive",
            $"file={Path.Combine(place, "disk.img")},format=raw,if=virtio",
        ];
        return new(Process.Start("qemu-system-x86_64", arguments), boot, lines);
    }

    public void Dispose() => Directory.Delete(place, recursive: true);
}

/// <summary>One boot, from its beginning until the power goes.</summary>
internal sealed class Power(Process emulator, int boot, string[] lines) : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(20);

    private readonly long[] read = new long[lines.Length];

    /// <summary>What it last said.</summary>
    public string Last { get; private set; } = "nothing";

    /// <returns>Whether the sentry told in time how things are.</returns>
    public async Task<bool> UntilReady(Ledger ledger, TimeSpan limit)
    {
        for (var began = Stopwatch.GetTimestamp(); Stopwatch.GetElapsedTime(began) < limit; )
        {
            if (Hear(ledger))
                return true;
            await Task.Delay(Beat).ConfigureAwait(false);
        }

        return false;
    }

    public async Task For(TimeSpan length, Ledger ledger)
    {
        for (var began = Stopwatch.GetTimestamp(); Stopwatch.GetElapsedTime(began) < length; )
        {
            _ = Hear(ledger);
            await Task.Delay(Beat).ConfigureAwait(false);
        }
    }

    /// <summary>The power is gone; what had come over its lines by then is heard.</summary>
    public void Cut(Ledger ledger)
    {
        emulator.Kill();
        emulator.WaitForExit();
        _ = Hear(ledger);
    }

    public void Dispose()
    {
        if (!emulator.HasExited)
            emulator.Kill();
        emulator.Dispose();
    }

    /// <returns>Whether it has said that it is ready.</returns>
    private bool Hear(Ledger ledger)
    {
        var ready = false;
        for (var i = 0; i < lines.Length; i++)
        {
            using var file = new FileStream(lines[i], FileMode.Open, FileAccess.Read, FileShare.ReadWrite);
            file.Seek(read[i], SeekOrigin.Begin);
            var text = new StreamReader(file).ReadToEnd();
            // Only whole lines were told.
            var whole = text.LastIndexOf('\n') + 1;
            read[i] += System.Text.Encoding.UTF8.GetByteCount(text[..whole]);
            foreach (var line in text[..whole].Split('\n', StringSplitOptions.RemoveEmptyEntries))
            {
                Last = line.Trim();
                ready |= Last == "@ ready";
                ledger.Hear(boot, Last);
            }
        }

        return ready;
    }
}
