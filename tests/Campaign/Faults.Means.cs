using System.Collections.Concurrent;
using System.Diagnostics;
using System.Globalization;
using CalmSentry.Linux.Processes;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Campaign;

/// <summary>What is taken from the sentry for a while: its store, disk, descriptors, processes, clock, programs, directory.</summary>
internal sealed partial class Faults
{
    private static readonly UnixFileMode Executable = (UnixFileMode)0b111_101_101;

    /// <summary>Whose descriptors are taken just now.</summary>
    private readonly ConcurrentDictionary<int, byte> taken = [];

    private static IEnumerable<Fault> Means(Faults faults, Machine machine)
    {
        yield return new("hold the store", 4, faults.Hold);
        yield return new("wipe the run directory", 2, faults.Wipe);
        yield return new("put an older store back", 1, faults.PutBack);
        yield return new("replace the programs", 2, (of, _) => Done(of.BringPrograms));
        yield return new("take the keeper's program", 2, faults.TakeKeeper);
        yield return new("take the processors", 2, faults.TakeProcessors);
        if (machine.IsRoot)
            yield return new("strangers say they are a run", 3, faults.PoseAsRun);
        if (machine.IsRoot)
            yield return new("fill a disk", 3, faults.Fill);
        if (machine.IsRoot)
            yield return new("take descriptors", 3, faults.TakeDescriptors);
        if (machine.ProcessCeiling is not null)
            yield return new("allow no more processes", 2, faults.TakeProcesses);
        if (machine.Clock is not null)
            yield return new("set the clock", 3, faults.SetClock);
    }

    private Task Hold(Machine machine, Random random)
    {
        var length = TimeSpan.FromMilliseconds(random.Next(100, 2000));
        underWay.Add(
            Task.Run(async () =>
            {
                try
                {
                    await using var other = new SqliteConnection(
                        $"Data Source={machine.Places.Database};Pooling=False"
                    );
                    await other.OpenAsync().ConfigureAwait(false);
                    await using var hold = other.CreateCommand();
                    hold.CommandText = "BEGIN IMMEDIATE";
                    await hold.ExecuteNonQueryAsync().ConfigureAwait(false);
                    await Task.Delay(length).ConfigureAwait(false);
                    hold.CommandText = "ROLLBACK";
                    await hold.ExecuteNonQueryAsync().ConfigureAwait(false);
                }
                catch (SqliteException)
                {
                    // Somebody else holds it.
                }
            })
        );
        return Task.CompletedTask;
    }

    private Task Fill(Machine machine, Random random)
    {
        var disk = machine.Disks[random.Next(machine.Disks.Count)];
        var fill = Path.Combine(disk, "fill");
        try
        {
            // Most of it at once, and then what room there still is.
            var most = new FileStreamOptions
            {
                Mode = FileMode.Create,
                Access = FileAccess.Write,
                PreallocationSize = Math.Max(0, Machine.Room(disk) - (1 << 20)),
            };
            using var file = new FileStream(fill, most);
            file.Seek(0, SeekOrigin.End);
            var block = new byte[4 << 10];
            while (true)
            {
                file.Write(block);
                file.Flush();
            }
        }
        catch (IOException)
        {
            // Full.
        }

        underWay.Add(Later(TimeSpan.FromMilliseconds(random.Next(200, 2500)), () => File.Delete(fill)));
        return Task.CompletedTask;
    }

    /// <summary>All that is in it, and now and then itself, as somebody does who tidies up.</summary>
    private async Task Wipe(Machine machine, Random random)
    {
        MomentsMayComeAgain = true; // where the store could not take them meanwhile
        var directory = machine.Places.RunDirectory;
        List<string> what = random.Next(3) == 0 ? [directory] : [.. Entries(directory)];
        // Whoever works there makes files meanwhile, so that not all of it goes at the first try.
        await Process.Start("rm", ["-rf", .. what]).WaitForExitAsync().ConfigureAwait(false);
    }

    /// <summary>
    /// As somebody does who has kept a copy of it; not while files are exchanged or rights are given, of which it knows nothing.
    /// </summary>
    private async Task PutBack(Machine machine, Random random)
    {
        if (!File.Exists(machine.KeptStore) || Asked.Any(one => one.What is "swap" or "grant" or "take"))
            return;
        var put = machine.Places.Database + ".put";
        try
        {
            File.Copy(machine.KeptStore, put, overwrite: true);
            File.SetUnixFileMode(put, File.GetUnixFileMode(machine.Places.Database));
        }
        catch (IOException)
        {
            File.Delete(put); // there is no room for it
            return;
        }

        // Nobody starts another server meanwhile.
        var guard = machine.Guard;
        Machine.Signal(guard, Stop);
        try
        {
            while (machine.Processes("calm-sentry", "serve").ToList() is { Count: > 0 } servers)
            {
                servers.ForEach(server => Machine.Signal(server, Kill));
                await Task.Delay(5).ConfigureAwait(false);
            }

            foreach (var end in (string[])["-wal", "-shm"])
                File.Delete(machine.Places.Database + end);
            File.Move(put, machine.Places.Database, overwrite: true);
            (MomentsMayComeAgain, WentBack) = (true, true);
        }
        finally
        {
            Machine.Signal(guard, Continue);
        }
    }

    private static IEnumerable<string> Entries(string directory) =>
        Directory.Exists(directory) ? Directory.EnumerateFileSystemEntries(directory) : [];

    /// <summary>It is not there, or cannot be executed, for a while.</summary>
    private Task TakeKeeper(Machine machine, Random random)
    {
        var keeper = machine.Program("calm-keeper");
        if (random.Next(2) == 0)
            File.Delete(keeper);
        else
        {
            File.WriteAllText(keeper + ".broken", "no program\n");
            File.SetUnixFileMode(keeper + ".broken", Executable);
            File.Move(keeper + ".broken", keeper, overwrite: true);
        }

        underWay.Add(Later(TimeSpan.FromMilliseconds(random.Next(100, 2000)), machine.BringPrograms));
        return Task.CompletedTask;
    }

    private string? usualDescriptors;

    /// <summary>The server, the guard or a keeper can open next to nothing any more, for a while.</summary>
    private Task TakeDescriptors(Machine machine, Random random)
    {
        var ofServer = random.Next(2) == 0;
        var pid =
            ofServer ? machine.Server
            : random.Next(2) == 0 ? machine.Guard
            : Any(machine.Keepers, random);
        // What was usual before anything was taken: whoever was begun since may have less from its parent.
        usualDescriptors ??= ProcessFacts.Limit(machine.Server, "Max open files");
        if (pid <= 1 || usualDescriptors is not { } usual || !taken.TryAdd(pid, 0))
            return Task.CompletedTask;
        Set(pid, Text(ProcessFacts.CountOpenFiles(pid) + random.Next(3)));
        if (ofServer)
            BeginDeaf();
        underWay.Add(
            Later(
                TimeSpan.FromMilliseconds(random.Next(100, 1500)),
                () =>
                {
                    // Also of those that were begun meanwhile, which have it from their parent.
                    foreach (var own in machine.Own().Append(pid))
                        Set(own, usual);
                    _ = taken.TryRemove(pid, out _);
                    if (ofServer)
                        EndDeaf();
                }
            )
        );
        return Task.CompletedTask;

        // Of one that has ended meanwhile it says so, which nobody needs to read.
        void Set(int of, string most) =>
            Process
                .Start(
                    new ProcessStartInfo("prlimit", ["--pid", Text(of), $"--nofile={most}:"])
                    {
                        RedirectStandardError = true,
                    }
                )!
                .WaitForExit();
    }

    private Task TakeProcesses(Machine machine, Random random)
    {
        var ceiling = Path.Combine(machine.ProcessCeiling!, "pids.max");
        var now = long.Parse(
            File.ReadAllText(Path.Combine(machine.ProcessCeiling!, "pids.current")),
            CultureInfo.InvariantCulture
        );
        File.WriteAllText(ceiling, Text(now + random.Next(4)));
        BeginDeaf();
        underWay.Add(
            Later(
                TimeSpan.FromMilliseconds(random.Next(100, 1500)),
                () =>
                {
                    File.WriteAllText(ceiling, "max");
                    EndDeaf();
                }
            )
        );
        return Task.CompletedTask;
    }

    /// <summary>Others want all of them for a while: nobody may be held up by what gives way to them.</summary>
    private Task TakeProcessors(Machine machine, Random random)
    {
        var seconds = random.Next(5, 40) / 10m;
        for (var i = 0; i < 2 * Environment.ProcessorCount; i++)
            underWay.Add(
                Process.Start("timeout", [$"{seconds}", "sh", "-c", "while :; do :; done"]).WaitForExitAsync()
            );
        return Task.CompletedTask;
    }

    /// <summary>An account that has nothing to do with a service keeps processes with the marks of its runs.</summary>
    private Task PoseAsRun(Machine machine, Random random)
    {
        if (machine.Marked() is not { Count: > 0 } marked)
            return Task.CompletedTask;
        for (var i = 0; i < 6; i++)
        {
            var (_, id, run) = marked[random.Next(marked.Count)];
            underWay.Add(
                Process
                    .Start(
                        "setpriv",
                        [
                            $"--reuid={Machine.Stranger}",
                            $"--regid={Machine.Stranger}",
                            "--clear-groups",
                            "env",
                            $"CALM_RUN={machine.Places.RunDirectory}:{id}:{run + random.Next(3)}",
                            "sleep",
                            $"{random.Next(1, 20)}",
                        ]
                    )
                    .WaitForExitAsync()
            );
        }

        return Task.CompletedTask;
    }

    /// <summary>By seconds to months, back or ahead, for a while.</summary>
    private Task SetClock(Machine machine, Random random)
    {
        MomentsMayComeAgain = true;
        var by = (long)Math.Pow(10, random.NextDouble() * 7) * (random.Next(2) == 0 ? 1 : -1);
        Set(by);
        underWay.Add(Later(TimeSpan.FromMilliseconds(random.Next(1000, 4000)), () => Set(0)));
        return Task.CompletedTask;

        void Set(long seconds)
        {
            File.WriteAllText(machine.Clock! + ".new", $"{seconds:+0;-0;+0}\n");
            File.Move(machine.Clock! + ".new", machine.Clock!, overwrite: true);
        }
    }

    private static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);
}
