using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>
/// A name in a folder that somebody else can write is no identity: what root does there, by way of swaps, grants, checks and log files,
/// makes nobody root and reads nothing for anybody that is not theirs.
/// </summary>
public sealed class NameTests
{
    private const string Stays = "#!/bin/sh\necho up\nexec sleep 678\n";

    public NameTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    /// <summary>A service whose account, nobody, owns its folder; in it lies a helper of root's that makes whoever runs it root.</summary>
    private static async Task<(Sentry Sentry, string Home)> With(bool ownsAbove = false)
    {
        var sentry = await Sentry.Start();
        var above = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "srv")).FullName;
        var home = Directory.CreateDirectory(Path.Combine(above, "board")).FullName;
        Program(Path.Combine(home, "board.sh"));
        await Do("chown", "-R", "nobody:nogroup", ownsAbove ? above : home);
        File.Copy("/bin/true", Path.Combine(home, "helper"));
        await Do("chmod", "4755", Path.Combine(home, "helper"));
        await sentry.Wrap(
            "board",
            "--proof",
            "up-for:50ms",
            "--accept",
            "data-left-behind",
            "--files-directory",
            home,
            "--",
            Path.Combine(home, "board.sh")
        );
        return (sentry, home);
    }

    private static void Program(string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        File.WriteAllText(path, Stays);
        File.SetUnixFileMode(path, (UnixFileMode)0x1ED);
    }

    private static async Task Do(string program, params string[] arguments) =>
        Assert.Equal(0, (await Sentry.As("root", [program, .. arguments])).Exit);

    private static async Task<string> Stat(string path) =>
        (await Sentry.As("root", "stat", "-c", "%U %a", path)).Output.Trim();

    private static string Next(Sentry sentry, params string[] more)
    {
        var next = Path.Combine(sentry.Places.Root, "next");
        Program(Path.Combine(next, "board.sh"));
        foreach (var name in more)
            File.WriteAllText(Path.Combine(next, name), "of the new version\n");
        return next;
    }

    [Fact]
    public async Task Set_user_id_is_not_handed_on_to_whatever_gets_its_name()
    {
        var (sentry, home) = await With();
        await using var _ = sentry;
        // The account knows what the next version brings, and gives the helper that name.
        Assert.Equal(0, (await Sentry.As("nobody", "mv", $"{home}/helper", $"{home}/tool")).Exit);
        var said = await sentry.Ok("swap", "board", "--from", Next(sentry, "tool"), "--watch-for", "0s");
        Assert.Equal("nobody 644", await Stat($"{home}/tool"));
        Assert.Contains("given up   1: tool: its owner root and set-user-ID", said.Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Owner_and_content_of_a_copy_are_of_one_file_whatever_is_renamed_meanwhile()
    {
        var (sentry, home) = await With();
        await using var _ = sentry;
        var next = Next(sentry);
        await Sentry.As("nobody", "sh", "-c", $"cd {home.Quoted()}; echo mine >mine; chmod 755 mine");
        await using (
            new Race(
                "nobody",
                $"cd {home.Quoted()}; while :; do mv helper aside; mv mine helper; mv aside mine; done 2>/dev/null"
            )
        )
            await Race.While(async () =>
                await sentry.Calm("swap", "board", "--from", next, "--over", "--watch-for", "0s")
            );
        foreach (var file in Directory.EnumerateFiles(home))
            if (File.ReadAllText(file) == "mine\n")
                Assert.StartsWith("nobody ", await Stat(file), StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_copy_is_as_unreadable_as_what_it_was_copied_from()
    {
        var (sentry, home) = await With();
        await using var _ = sentry;
        await File.WriteAllTextAsync($"{home}/till", "herring");
        await Do("chmod", "600", $"{home}/till");
        await sentry.Ok("swap", "board", "--from", Next(sentry), "--over", "--watch-for", "0s");
        Assert.Equal("root 600", await Stat($"{home}/till"));
        Assert.NotEqual(0, (await Sentry.As("nobody", "cat", $"{home}/till")).Exit);
    }

    [Fact]
    public async Task A_link_of_roots_that_somebody_moved_leads_nobody_anywhere()
    {
        await using var sentry = await Sentry.Start();
        var closed = Directory
            .CreateDirectory(Path.Combine(sentry.Places.Root, "closed"), (UnixFileMode)0x1C0)
            .FullName;
        var box = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "box")).FullName;
        File.CreateSymbolicLink($"{box}/old", closed);
        await Do("chown", "nobody", box);
        Assert.Equal(0, (await Sentry.As("nobody", "mv", $"{box}/old", $"{box}/books")).Exit);
        var said = await sentry.Calm("account", "grant", "nobody", $"{box}/books");
        Assert.NotEqual(0, said.Exit);
        Assert.Contains("is a link in a folder that others than root can write", said.All, StringComparison.Ordinal);
        Assert.NotEqual(0, (await Sentry.As("nobody", "ls", closed)).Exit);

        // Where only root can write, one leads on; but it is said where to, and asked.
        File.CreateSymbolicLink(Path.Combine(sentry.Places.Root, "books"), closed);
        var asked = await sentry.Calm("account", "grant", "nobody", Path.Combine(sentry.Places.Root, "books"));
        Assert.NotEqual(0, asked.Exit);
        Assert.Contains($"leads to {closed}, by the link", asked.All, StringComparison.Ordinal);
        Assert.NotEqual(0, (await Sentry.As("nobody", "ls", closed)).Exit);
        await sentry.Ok("account", "grant", "nobody", Path.Combine(sentry.Places.Root, "books"), "--yes");
        Assert.Equal(0, (await Sentry.As("nobody", "ls", closed)).Exit);
    }

    [Fact]
    public async Task A_closed_folder_is_not_opened_because_of_its_name()
    {
        var (sentry, home) = await With(ownsAbove: true);
        await using var _ = sentry;
        var above = Path.GetDirectoryName(home)!;
        Directory.CreateDirectory($"{above}/plans", (UnixFileMode)0x1C0);
        await File.WriteAllTextAsync($"{above}/plans/berths", "of root\n");
        Assert.Equal(0, (await Sentry.As("nobody", "mv", $"{above}/plans", $"{above}/.board.versions")).Exit);
        var next = Next(sentry);
        using var reads = Sentry.Began(
            "nobody",
            "sh",
            "-c",
            $"until cat {above.Quoted()}/.board.versions/berths 2>/dev/null; do :; done"
        );
        var read = reads.StandardOutput.ReadLineAsync();
        await Race.While(async () => await sentry.Calm("swap", "board", "--from", next, "--dry"));
        Assert.False(read.IsCompleted, "a folder of root's was open for a moment");
        Assert.Equal("root 700", await Stat($"{above}/.board.versions"));
        await Sentry.End(reads);
        // And new files are put in all the same.
        Assert.Equal(0, (await sentry.Calm("swap", "board", "--from", next, "--watch-for", "0s")).Exit);
    }

    [Fact]
    public async Task An_archive_is_not_read_through_its_uploaders_link()
    {
        var (sentry, home) = await With();
        await using var _ = sentry;
        Next(sentry);
        var archive = Path.Combine(sentry.Places.Root, "of-root.tar");
        await Do("tar", "cf", archive, "-C", sentry.Places.Root, "next");
        await Do("chmod", "600", archive);
        var uploads = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "uploads")).FullName;
        await Do("chown", "daemon", uploads);
        await Sentry.As("daemon", "ln", "-s", archive, $"{uploads}/board.tar");
        var said = await sentry.Calm("swap", "board", "--from", $"{uploads}/board.tar", "--watch-for", "0s");
        Assert.NotEqual(0, said.Exit);
        Assert.Contains("is a link that daemon made", said.All, StringComparison.Ordinal);
        // What is taken is named by its real path, with its owner.
        var taken = await sentry.Ok("swap", "board", "--from", archive, "--dry");
        Assert.Contains($"from {archive} (root's)", taken.Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task Nothing_of_an_account_is_run_as_root_to_be_compared()
    {
        await using var sentry = await Sentry.Start();
        var ids = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "ids"), (UnixFileMode)0x1FF).FullName;
        await Do("chmod", "777", ids);
        var script = sentry.Script("who", $"#!/bin/sh\nid -u >>{ids.Quoted()}/of-$(id -u)\nexec sleep 678\n");
        await Do("chown", "nobody", script);
        var said = await sentry.Calm(
            "rehearse",
            "--compare-with-mine",
            "--account",
            "nobody",
            "--for",
            "1s",
            "--",
            script
        );
        Assert.False(File.Exists($"{ids}/of-0"), said.All);
        Assert.True(File.Exists($"{ids}/of-65534"), said.All);
        Assert.Contains("It was not run as you: ", said.All, StringComparison.Ordinal);
        Assert.Contains("What differs:", said.All, StringComparison.Ordinal);

        // Whoever became root is known, and runs what nobody else can change; what daemon could have written is run by nobody.
        await Do("chown", "root", script);
        var me = new Dictionary<string, string> { ["SUDO_UID"] = "1" };
        string[] rehearse = ["rehearse", "--compare-with-mine", "--account", "nobody", "--for", "1s", "--", script];
        Assert.DoesNotContain("It was not run as you", await Rehearsed(sentry, me, rehearse), StringComparison.Ordinal);
        Assert.True(File.Exists($"{ids}/of-1"));
        File.Delete($"{ids}/of-1");
        await Do("chown", "nobody", script);
        Assert.Contains(
            "belongs to 65534, another account",
            await Rehearsed(sentry, me, rehearse),
            StringComparison.Ordinal
        );
        Assert.False(File.Exists($"{ids}/of-1"));
        Assert.False(File.Exists($"{ids}/of-0"));
    }

    private static async Task<string> Rehearsed(Sentry sentry, Dictionary<string, string> environment, string[] line)
    {
        using var process = sentry.Open(environment, line);
        var said = process.StandardOutput.ReadToEndAsync();
        await process.WaitForExitAsync().InTime();
        return await said;
    }

    [Theory]
    [InlineData("cwd")]
    [InlineData("root")]
    public async Task A_log_file_is_not_opened_through_the_kernels_own_links(string link)
    {
        await using var sentry = await Sentry.Start();
        var closed = Directory
            .CreateDirectory(Path.Combine(sentry.Places.Root, "closed"), (UnixFileMode)0x1C0)
            .FullName;
        await File.WriteAllTextAsync($"{closed}/till", "herring\n");
        await Do("chmod", "666", $"{closed}/till");
        using var roots = Process.Start(
            new ProcessStartInfo("sleep", ["678"]) { WorkingDirectory = link == "cwd" ? closed : "/" }
        )!;
        var path = $"/proc/{roots.Id}/{link}{(link == "cwd" ? "" : closed)}/till";
        await sentry.Wrap("tide", "--log-file", $"till={path}", "--proof", "up-for:50ms", "--", "/bin/sleep", "678");
        await sentry.Ok("start", "tide");
        await File.AppendAllTextAsync($"{closed}/till", "cod\n");
        await sentry.Ok("stop", "tide"); // looks a last time
        var kept = await sentry.Calm("output", "tide", "--file", "till");
        Assert.DoesNotContain("cod", kept.Output, StringComparison.Ordinal);
        Assert.Equal("herring\ncod\n", await File.ReadAllTextAsync($"{closed}/till"));
        await Sentry.End(roots);
    }

    [Fact]
    public async Task A_service_at_work_in_its_files_keeps_no_swap_from_ending()
    {
        var (sentry, home) = await Restless();
        await using var _ = sentry;
        var said = await sentry.Calm("swap", "board", "--from", Next(sentry), "--watch-for", "0s", "--alone");
        Assert.True(said.Exit == 0, said.All);
        Assert.Equal(Stays, await File.ReadAllTextAsync($"{home}/board.sh"));
        Assert.Equal("running", (await sentry.Show("board")).GetProperty("state").GetString());
    }

    /// <summary>A service whose run exchanges its own directory without pause, and leaves it whole when it is told to end.</summary>
    /// <param name="others">For how many others.</param>
    private static async Task<(Sentry Sentry, string Home)> Restless(int others = 1)
    {
        var (sentry, home) = await With(ownsAbove: true);
        await MakeRestless(sentry, home, others);
        return (sentry, home);
    }

    private static async Task MakeRestless(Sentry sentry, string home, int others)
    {
        await File.WriteAllTextAsync(
            $"{home}/board.sh",
            $"#!/bin/sh\ncd {Path.GetDirectoryName(home)!.Quoted()}\nall=$(seq {others})\nmkdir -p $all\ntrap over=1 TERM\n"
                + "while [ -z \"$over\" ]; do mv board away; for i in $all; do mv $i board; mv board $i; done; mv away board; done 2>/dev/null\n"
                + "[ -e board ] || mv away board\n"
        );
        await sentry.Ok("restart", "board");
    }

    [Fact]
    public async Task A_service_stopped_for_files_that_a_lost_server_never_looked_at_runs_again()
    {
        const int others = 9;
        var (sentry, home) = await Restless(others);
        await using var _ = sentry;
        var next = Next(sentry);
        for (var i = 0; i < 2000; i++) // so many that looking at them takes a while
            await File.WriteAllTextAsync(Path.Combine(next, $"page {i}"), "herring");
        await StoppedFirst(sentry, next, () => MakeRestless(sentry, home, others));
        await sentry.KillServer();
        await sentry.Serve();
        await Sentry.Eventually(async () => (await sentry.Show("board")).GetProperty("state").GetString() == "running");
        Assert.Contains(
            "does not get version 2: the sentry ended before its new files were ready",
            (await sentry.Ok("logbook", "board")).Output,
            StringComparison.Ordinal
        );
        await sentry.Ok("stop", "board");
        Assert.NotEqual(Stays, await File.ReadAllTextAsync($"{home}/board.sh"));
    }

    /// <summary>Asks for new files until that stops the service before they are looked at, and leaves it there.</summary>
    private static async Task StoppedFirst(Sentry sentry, string next, Func<Task> restless)
    {
        for (var tried = 0; tried < 10; tried++)
        {
            using var swap = sentry.Open("swap", "board", "--from", next, "--watch-for", "0s", "--alone");
            while (await swap.StandardError.ReadLineAsync().InTime() is { } line)
            {
                if (!line.Contains("it is stopped first", StringComparison.Ordinal))
                    continue;
                await Sentry.Eventually(async () =>
                    (await sentry.Show("board")).GetProperty("state").GetString() == "stopped"
                );
                return;
            }

            // The same lay there before and after by chance, three times over.
            await swap.WaitForExitAsync().InTime();
            Assert.True(swap.ExitCode == 0, await swap.StandardOutput.ReadToEndAsync());
            await restless();
        }

        Assert.Fail("it was never stopped first");
    }
}
