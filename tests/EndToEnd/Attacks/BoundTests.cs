using System.Diagnostics;
using System.Globalization;
using System.IO.Compression;
using System.Text;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>What others make long, many or without end costs the sentry a bounded amount of memory, disk and time.</summary>
[Needs("perl")]
public sealed class BoundTests
{
    /// <summary>More than this the server has not grown by, whatever it was asked: what one call gathers, and what reading it costs.</summary>
    private const long MostGrowth = 192L << 20;

    private static long Peak(int pid) => Bytes($"/proc/{pid}/status", "VmHWM:");

    /// <summary>Proportional share of what a process has in memory (proc_pid_smaps(5)).</summary>
    private static long Pss(int pid) => Bytes($"/proc/{pid}/smaps_rollup", "Pss:");

    private static long Bytes(string file, string of) =>
        long.Parse(
            File.ReadLines(file)
                .First(line => line.StartsWith(of, StringComparison.Ordinal))
                .Split(' ', StringSplitOptions.RemoveEmptyEntries)[1],
            CultureInfo.InvariantCulture
        ) << 10;

    private static async Task<Sentry> WithBoard(string root = "srv")
    {
        var sentry = await Sentry.StartGuarded(); // as it is on a host: what a server may keep of memory its guard says
        var home = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, root, "board")).FullName;
        await File.WriteAllTextAsync($"{home}/board.sh", "#!/bin/sh\nexec sleep 678\n");
        File.SetUnixFileMode($"{home}/board.sh", (UnixFileMode)0x1ED);
        await sentry.Wrap("board", "--", $"{home}/board.sh");
        return sentry;
    }

    [Fact]
    public async Task Root_gets_in_however_many_knock_and_hang_up()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
        await using var sentry = await Sentry.Start();
        var knockers = Enumerable
            .Range(0, 8)
            .Select(_ =>
                Sentry.Began(
                    "daemon",
                    "perl",
                    "-MSocket",
                    "-e",
                    "my $to = sockaddr_un($ARGV[0]); while (1) { socket(my $s, PF_UNIX, SOCK_STREAM, 0); connect($s, $to); close $s }",
                    sentry.Places.ApiSocket
                )
            )
            .ToList();
        try
        {
            await Race.While(async () =>
            {
                for (var i = 0; i < 4; i++)
                    await sentry.Ok("list");
            });
        }
        finally
        {
            foreach (var knocker in knockers)
                await Sentry.End(knocker);
        }
    }

    [Fact]
    public async Task A_log_without_content_fills_no_disk_and_keeps_no_stop_from_ending()
    {
        await using var sentry = await Sentry.Start();
        var log = Path.Combine(sentry.Places.Root, "holes", "tide.log");
        Directory.CreateDirectory(Path.GetDirectoryName(log)!, (UnixFileMode)0x1FF);
        File.SetUnixFileMode(Path.GetDirectoryName(log)!, (UnixFileMode)0x1FF);
        var script = sentry.Script(
            "tide",
            $"#!/bin/sh\necho begins >{log.Quoted()}\ntruncate -s 8T {log.Quoted()}\necho ends >>{log.Quoted()}\necho up\nexec sleep 678\n"
        );
        await sentry.Wrap(
            "tide",
            "--log-file",
            $"own={log}",
            "--keep-most",
            "32 MiB",
            "--proof",
            "output:^up",
            "--",
            script
        );
        await sentry.Ok("start", "tide");
        await Sentry.Eventually(async () =>
            (await sentry.Calm("output", "tide", "--file", "own")).Output.Contains("ends", StringComparison.Ordinal)
        );
        var kept = (await sentry.Ok("output", "tide", "--file", "own")).Output;
        Assert.Contains("bytes of it were never written]", kept, StringComparison.Ordinal);
        await sentry.Ok("stop", "tide");
        var folder = sentry.Places.KeptFileOf("tide", "own");
        Assert.InRange(
            Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories).Sum(file => new FileInfo(file).Length),
            0,
            1 << 20
        );
    }

    [Fact]
    public async Task A_file_that_grows_while_it_is_copied_does_not_fill_the_disk()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        const long size = 512L << 20;
        var disk = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "disk")).FullName;
        await Sentry.As("root", "mount", "-t", "tmpfs", "-o", $"size={size},mode=755", "small", disk);
        try
        {
            var home = Directory.CreateDirectory(Path.Combine(disk, "board")).FullName;
            var next = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "next")).FullName;
            foreach (var folder in (string[])[home, next])
            {
                await File.WriteAllTextAsync($"{folder}/board.sh", "#!/bin/sh\nexec sleep 678\n");
                File.SetUnixFileMode($"{folder}/board.sh", (UnixFileMode)0x1ED);
            }

            await Sentry.As("root", "chown", "-R", Sentry.Account, home);
            await sentry.Wrap("board", "--files-directory", home, "--", $"{home}/board.sh");
            await Race.While(async () =>
            {
                await Sentry.As(Sentry.Account, "sh", "-c", $"head -c 100M /dev/zero >{home.Quoted()}/grows");
                var swap = sentry.Calm("swap", "board", "--from", next, "--over", "--dry");
                // It stops by itself well before the disk is full: what takes more of it is the copy.
                using var grows = Sentry.Began(
                    Sentry.Account,
                    "sh",
                    "-c",
                    $"cd {home.Quoted()}; for i in $(seq 38); do [ $(df --output=avail -BM . | tail -n 1 | tr -dc 0-9) -gt 60 ] || break; "
                        + "head -c 5M /dev/zero >>grows; done"
                );
                var least = size;
                while (!swap.IsCompleted)
                    least = Math.Min(least, new DriveInfo(disk).AvailableFreeSpace);
                await Sentry.End(grows);
                Assert.InRange(least, size / 20 - (1 << 20), size);
                File.Delete($"{home}/grows");
                await swap;
            });
        }
        finally
        {
            await Sentry.As("root", "umount", "-l", disk);
        }
    }

    [Fact]
    public async Task An_archive_says_so_much_of_a_member_and_no_more()
    {
        await using var sentry = await WithBoard();
        var pid = await sentry.Server();
        var before = Peak(pid);
        var archive = LongHead(sentry);
        var said = await sentry.Calm("swap", "board", "--from", archive, "--dry");
        Assert.NotEqual(0, said.Exit);
        Assert.Contains("1900000000 bytes are said of one member", said.All, StringComparison.Ordinal);
        Assert.InRange(Peak(pid) - before, 0, MostGrowth);
    }

    /// <summary>An archive whose first member says of itself that it has 1.9 GB.</summary>
    private static string LongHead(Sentry sentry)
    {
        var archive = Path.Combine(sentry.Places.Root, "long.tar");
        using var file = File.Create(archive);
        file.Write(Head("words", 1_900_000_000, 'x'));
        file.SetLength(1_900_001_024);
        return archive;
    }

    /// <summary>The head of a member (POSIX.1-2017, ustar Interchange Format).</summary>
    private static byte[] Head(string name, long size, char kind)
    {
        var head = new byte[512];
        Encoding.ASCII.GetBytes(name).CopyTo(head, 0);
        Encoding.ASCII.GetBytes("0000644").CopyTo(head, 100);
        Encoding.ASCII.GetBytes("0000000").CopyTo(head, 108);
        Encoding.ASCII.GetBytes("0000000").CopyTo(head, 116);
        Encoding.ASCII.GetBytes(Convert.ToString(size, 8).PadLeft(11, '0')).CopyTo(head, 124);
        Encoding.ASCII.GetBytes("00000000000").CopyTo(head, 136);
        Encoding.ASCII.GetBytes("        ").CopyTo(head, 148);
        head[156] = (byte)kind;
        Encoding.ASCII.GetBytes("ustar\0" + "00").CopyTo(head, 257);
        Encoding.ASCII.GetBytes(Convert.ToString(head.Sum(one => one), 8).PadLeft(6, '0') + "\0 ").CopyTo(head, 148);
        return head;
    }

    [Fact]
    public async Task An_archive_has_so_many_members_and_no_more()
    {
        await using var sentry = await WithBoard();
        var pid = await sentry.Server();
        var before = Peak(pid);
        var archive = ManyMembers(sentry);
        var said = await sentry.Calm("swap", "board", "--from", archive, "--dry");
        Assert.NotEqual(0, said.Exit);
        Assert.Contains("it has more than 200000 members", said.All, StringComparison.Ordinal);
        Assert.InRange(Peak(pid) - before, 0, MostGrowth);
    }

    private static string ManyMembers(Sentry sentry)
    {
        var archive = Path.Combine(sentry.Places.Root, "many.zip");
        using var file = File.Create(archive);
        using var zip = new ZipArchive(file, ZipArchiveMode.Create);
        for (var i = 0; i < 400_000; i++)
            zip.CreateEntry($"folder-with-a-longer-name/{i}", CompressionLevel.NoCompression);
        return archive;
    }

    [Fact]
    public async Task Long_lines_are_looked_through_in_bounded_room()
    {
        if (Environment.UserName != "root")
            Assert.Skip("another reader than root would have no say here");
        await using var sentry = await Sentry.StartGuarded();
        await LongLines(sentry);
        var pid = await sentry.Server();
        var before = Peak(pid);
        var found = await LookThrough(sentry);
        Assert.InRange(Peak(pid) - before, 0, MostGrowth);
        Assert.Equal(300, found.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries).Length);
        Assert.StartsWith("1 xx\n2 xx\n", found.Output, StringComparison.Ordinal);
        await sentry.Calm("output", "tide", "--match", "^never$", "--last", "1000");
        Assert.InRange(Peak(pid) - before, 0, MostGrowth);
    }

    /// <summary>300 lines of nearly a mebibyte.</summary>
    private static async Task LongLines(Sentry sentry)
    {
        await sentry.Wrap(
            "tide",
            "--proof",
            "up-for:50ms",
            "--",
            "perl",
            "-e",
            "$| = 1; my $l = 'x' x 1048000; print \"$_ $l\\n\" for 1 .. 300; print \"up\\n\"; sleep 678"
        );
        await sentry.Ok("start", "tide");
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "tide", "--last", "1")).Output.Contains("up", StringComparison.Ordinal)
        );
    }

    /// <summary>The last thousand of them, which are more than fit at once.</summary>
    private static Task<Said> LookThrough(Sentry sentry) =>
        Sentry.As(
            "root",
            "sh",
            "-c",
            $"{sentry.Program("calm").Quoted()} --root {sentry.Places.Root.Quoted()} output tide --match '^[0-9]+ x+$' --last 1000 | cut -c1-4"
        );

    [Fact]
    public async Task Long_paths_times_many_files_are_more_than_is_gathered()
    {
        await using var sentry = await WithBoard();
        var deep = await LongPaths(sentry);
        var pid = await sentry.Server();
        var before = Peak(pid);
        var said = await sentry.Calm("swap", "board", "--from", deep, "--dry");
        Assert.NotEqual(0, said.Exit);
        Assert.Contains("more than 64 MiB", said.All, StringComparison.Ordinal);
        if (Environment.UserName == "root")
            await sentry.Calm("account", "grant", "nobody", deep, "--yes");
        Assert.InRange(Peak(pid) - before, 0, MostGrowth);
        await Sentry.As("root", "rm", "-rf", deep);
    }

    /// <summary>Three folders within each other, each name as long as may be, and in the last one as many files as make 64 MiB of paths.</summary>
    private static async Task<string> LongPaths(Sentry sentry)
    {
        var deep = Path.Combine(sentry.Places.Root, "deep");
        using (
            var made = Process.Start(
                "perl",
                [
                    "-e",
                    "my $n = 'd' x 240; mkdir $ARGV[0]; chdir $ARGV[0]; for (1 .. 3) { mkdir $n; chdir $n or die } "
                        + "for my $i (1 .. 40000) { open my $f, '>', sprintf('%s%06d', 'f' x 200, $i) or die }",
                    deep,
                ]
            )!
        )
            await made.WaitForExitAsync();
        await Sentry.As("root", "cp", "/bin/true", Path.Combine(deep, "board.sh"));
        return deep;
    }

    /// <summary>What a server with twenty services at work has of memory, its share of what others have, too, whatever it was asked.</summary>
    [Fact]
    public async Task All_of_it_one_after_the_other_takes_less_than_200_MB()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
        await using var sentry = await WithBoard();
        for (var i = 1; i < 20; i++)
            await sentry.Wrap(
                $"berth-{i}",
                "--",
                sentry.Script("berth", "#!/bin/sh\nwhile :; do echo at berth; sleep 1; done\n")
            );
        await sentry.Ok("start", "--all");
        var (deep, head, zip, pid) = (
            await LongPaths(sentry),
            LongHead(sentry),
            ManyMembers(sentry),
            await sentry.Server()
        );
        using var over = new CancellationTokenSource();
        var highest = 0L;
        var watch = Task.Run(async () =>
        {
            while (!over.IsCancellationRequested)
            {
                highest = Math.Max(highest, Pss(pid));
                await Task.Delay(5);
            }
        });
        foreach (var from in (string[])[deep, head, zip])
            Assert.NotEqual(0, (await sentry.Calm("swap", "board", "--from", from, "--dry")).Exit);
        await sentry.Calm("account", "grant", "nobody", deep, "--yes");
        await LongLines(sentry);
        await LookThrough(sentry);
        await sentry.Calm("output", "tide", "--match", "^never$", "--last", "1000");
        await over.CancelAsync();
        await watch;
        await Sentry.As("root", "rm", "-rf", deep);
        Assert.Equal(pid, await sentry.Server());
        Assert.InRange(highest, 0, 200_000_000);
    }
}
