using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Attacks;

/// <summary>An account that has nothing to do with a service gives itself out for a part of it, or of the sentry.</summary>
public sealed class StrangerTests
{
    private const string Stranger = "daemon";

    public StrangerTests()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to act as other accounts");
    }

    private static List<Process> Marked(Sentry sentry, int count, Func<int, string> mark, string program = "sleep") =>
        [
            .. Enumerable
                .Range(1, count)
                .Select(i =>
                    Sentry.Began(Stranger, "env", $"CALM_RUN={sentry.Places.RunDirectory}:{mark(i)}", program, "600")
                ),
        ];

    private static async Task Over(List<Process> all)
    {
        foreach (var one in all)
            await Sentry.End(one);
    }

    [Fact]
    public async Task Marks_of_a_stranger_hold_up_no_recovery_and_are_not_ended()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:50ms", "--start", "--", "/bin/sleep", "30303");
        var id = await sentry.Id("tide");
        var run = (await sentry.Show("tide")).GetProperty("run").GetInt64();
        var theirs = Marked(sentry, 12, i => $"{id}:{run + (i % 3)}");
        // A program with the set-user-ID bit keeps the environment of whoever starts it.
        var tool = Path.Combine(sentry.Places.Root, "lent");
        File.Copy("/bin/sleep", tool);
        File.SetUnixFileMode(tool, (UnixFileMode)0b100_111_101_101);
        theirs.AddRange(Marked(sentry, 1, _ => $"{id}:{run}", tool));
        await Sentry.Eventually(() =>
            theirs.TrueForAll(one => Sentry.CommandLine(one.Id).Contains("600", StringComparison.Ordinal))
        );

        Sentry.Kill(Sentry.Parent((await sentry.Show("tide")).GetProperty("pid").GetInt32()));
        await sentry.Until("tide", now => now.GetProperty("run").GetInt64() == run + 1 && Runs(now));
        // And what a server finds that has just begun.
        await sentry.KillServer();
        await sentry.Serve();
        await sentry.Until("tide", Runs);
        Assert.All(theirs, one => Assert.True(Sentry.Lives(one.Id)));
        Assert.DoesNotContain("remains", (await sentry.Ok("logbook", "tide")).Output, StringComparison.Ordinal);
        await sentry.Ok("stop", "tide");
        Assert.All(theirs, one => Assert.True(Sentry.Lives(one.Id)));
        await Over(theirs);
    }

    private static bool Runs(System.Text.Json.JsonElement now) => now.GetProperty("state").GetString() == "running";

    [Fact]
    public async Task What_has_the_lock_open_is_not_the_server()
    {
        await using var sentry = await Sentry.StartGuarded();
        // The very file of the server, executed by a stranger, that has the lock's file open without any right on it.
        const string script =
            "import os; fd = os.open(os.environ['LOCK'], os.O_PATH); os.set_inheritable(fd, True); "
            + "os.execv(os.environ['SERVER'], ['calm-sentry', 'serve', '--root', os.environ['HERE']])";
        var here = Directory.CreateTempSubdirectory("calm-stranger-").FullName;
        Process.Start("chown", [Stranger, here]).WaitForExit();
        var theirs = Sentry.Began(
            Stranger,
            "env",
            $"HERE={here}",
            $"LOCK={sentry.Places.Lock}",
            $"SERVER={sentry.Program("calm-sentry")}",
            "/usr/bin/python3",
            "-c",
            script
        );
        await Sentry.Eventually(() =>
            Directory.Exists($"/proc/{theirs.Id}/fd")
            && new FileInfo($"/proc/{theirs.Id}/exe").LinkTarget?.EndsWith("calm-sentry", StringComparison.Ordinal)
                == true
        );
        Assert.Contains(
            sentry.Places.Lock,
            Directory.EnumerateFiles($"/proc/{theirs.Id}/fd").Select(file => new FileInfo(file).LinkTarget)
        );
        var before = await sentry.Server();
        Sentry.Kill(before);
        await Sentry.Eventually(async () =>
            await sentry.Server() is var now && now > 0 && now != before && now != theirs.Id
        );
        Assert.Equal(0, (await sentry.Calm("list")).Exit);
        // It was begun again at once, and not after half a minute of waiting for the stranger.
        Assert.DoesNotContain("no sign of life", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
        await Sentry.End(theirs);
        Directory.Delete(here, recursive: true);
    }
}
