namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>The host's own places are given to nobody and exchanged by nothing; what is very much is asked about, and taken back when it is called off.</summary>
[Needs("acl")]
public sealed class HostPlaceTests
{
    public HostPlaceTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to grant anything");
    }

    [Fact]
    public async Task No_right_is_given_where_the_hosts_own_things_lie()
    {
        await using var sentry = await Sentry.Start();
        foreach (
            var folder in (string[])
                [
                    "/",
                    "/etc",
                    "/etc/ssl",
                    "/usr/bin",
                    "/usr/lib",
                    "/usr/local/bin",
                    "/root",
                    "/dev",
                    "/proc",
                    "/sys",
                    "/boot",
                    "/var/lib",
                    "/var/lib/dpkg",
                    "/run",
                    "/run/lock",
                    "/srv",
                    "/home",
                    "/tmp",
                    sentry.Places.Library,
                    sentry.Places.OutputDirectoryOf("tide"),
                ]
        )
        {
            if (!Directory.Exists(folder))
                continue;
            var before = (await Sentry.As("root", "getfacl", "-pn", folder)).Output;
            foreach (
                var more in (string[][])
                    [
                        [],
                        ["--yes"],
                        ["--read", "--yes"],
                        ["--dry"],
                    ]
            )
            {
                var said = await sentry.Calm(["account", "grant", "nobody", folder, .. more]);
                Assert.True(said.Exit != 0, $"{folder} {string.Join(' ', more)}: {said.All}");
                Assert.Contains("Nothing was changed.", said.All, StringComparison.Ordinal);
            }

            Assert.Equal(before, (await Sentry.As("root", "getfacl", "-pn", folder)).Output);
        }
    }

    [Fact]
    public async Task An_administrators_own_folder_there_may_be_granted()
    {
        await using var sentry = await Sentry.Start();
        var mark = Guid.NewGuid().ToString("N")[..8];
        foreach (
            var (folder, writes) in new[]
            {
                ($"/run/relay-{mark}", true),
                ($"/etc/relay-{mark}", false),
                ($"/usr/local/relay-{mark}", true),
            }
        )
        {
            Directory.CreateDirectory(folder, (UnixFileMode)0x1C0);
            try
            {
                Assert.Equal(writes ? 0 : 1, (await sentry.Calm("account", "grant", "nobody", folder)).Exit);
                Assert.Equal(writes ? 0 : 1, (await Sentry.As("nobody", "touch", $"{folder}/mine")).Exit);
                await sentry.Ok("account", "grant", "nobody", folder, "--read");
                Assert.Equal(0, (await Sentry.As("nobody", "ls", folder)).Exit);
            }
            finally
            {
                Directory.Delete(folder, recursive: true);
            }
        }
    }

    [Fact]
    public async Task Very_many_files_are_asked_about_and_taken_back_when_it_is_called_off()
    {
        await using var sentry = await Sentry.Start();
        var folder = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "many"), (UnixFileMode)0x1C0).FullName;
        await Sentry.As("root", "sh", "-c", $"cd {folder.Quoted()} && seq 1 30000 | xargs touch && chmod 600 *");
        var asked = await sentry.Calm("account", "grant", "nobody", folder);
        Assert.NotEqual(0, asked.Exit);
        Assert.Contains("There are 30000 files and folders in", asked.All, StringComparison.Ordinal);
        Assert.Contains("--yes", asked.All, StringComparison.Ordinal);
        // It may be done before it is called off: then once more.
        for (var done = true; done; )
        {
            using var grant = sentry.Open("account", "grant", "nobody", folder, "--yes");
            await Sentry.Eventually(async () => grant.HasExited || Lists(await Some()) > 0);
            Sentry.Kill(grant.Id, "INT");
            await grant.WaitForExitAsync().InTime();
            done = grant.ExitCode == 0;
            if (done)
                await sentry.Ok("account", "take", "nobody", folder);
        }

        await Sentry.Eventually(async () => Lists(await Rights(folder)) == 0);
        await sentry.Ok("account", "grant", "nobody", folder, "--yes");
        Assert.True(Lists(await Rights(folder)) >= 30000);

        static int Lists(string rights) =>
            rights.Split('\n').Count(line => line.StartsWith("user:65534:", StringComparison.Ordinal));
        // A few of them, looked at in no time.
        async Task<string> Some() =>
            (await Sentry.As("root", "sh", "-c", $"cd {folder.Quoted()} && getfacl -pn *00")).Output;
        static async Task<string> Rights(string folder) => (await Sentry.As("root", "getfacl", "-Rpn", folder)).Output;
    }

    [Theory]
    [InlineData("/var/lib")]
    [InlineData("/etc")]
    [InlineData("/usr/lib")]
    [InlineData("/srv")]
    public async Task No_directory_of_the_hosts_is_exchanged_and_a_dry_run_leaves_nothing(string directory)
    {
        await using var sentry = await Sentry.Start();
        var next = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "next")).FullName;
        await File.WriteAllTextAsync(Path.Combine(next, "board"), "new\n");
        await sentry.Wrap("board", "--files-directory", directory, "--", "/bin/sleep", "600");
        var above = Path.GetDirectoryName(directory)!;
        var before = Directory.GetFileSystemEntries(above).Concat(Directory.GetFileSystemEntries(directory)).ToList();
        foreach (
            var more in (string[][])
                [
                    ["--dry"],
                    [],
                ]
        )
        {
            var said = await sentry.Calm(["swap", "board", "--from", next, .. more]);
            Assert.NotEqual(0, said.Exit);
            Assert.Contains("is not exchanged as a whole", said.All, StringComparison.Ordinal);
        }

        Assert.Equal(
            before,
            Directory.GetFileSystemEntries(above).Concat(Directory.GetFileSystemEntries(directory)).ToList()
        );
    }
}
