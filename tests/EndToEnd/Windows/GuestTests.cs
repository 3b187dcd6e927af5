using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Windows;

/// <summary>What a program may do to its display is its own affair: the sentry is as it was, and ends it as any other.</summary>
[Needs("python3", "tigervnc-standalone-server")]
public class GuestTests
{
    private static Task<Said> Wrap(Sentry sentry, params string[] what) =>
        sentry.Wrap(
            "guest",
            [
                "--window",
                "400x300",
                "--pause",
                "50ms",
                "--start",
                "--",
                "/usr/bin/python3",
                sentry.Script(
                    "guest.py",
                    File.ReadAllText(Path.Combine(Sentry.Repository, "tests/EndToEnd/Windows/guest.py"))
                ),
                .. what,
            ]
        );

    private static Task Prints(Sentry sentry, string line) =>
        Sentry.Eventually(async () =>
            (await sentry.Ok("output", "guest")).Output.Contains(line, StringComparison.Ordinal)
        );

    /// <summary>Processor time of the server so far, in ticks.</summary>
    private static long Ticks(Sentry sentry)
    {
        var fields = File.ReadAllText($"/proc/{sentry.ServerPid}/stat").Split(") ")[^1].Split(' ');
        return long.Parse(fields[11], null) + long.Parse(fields[12], null);
    }

    private static long Memory(Sentry sentry) =>
        long.Parse(
            File.ReadLines($"/proc/{sentry.ServerPid}/status")
                .First(line => line.StartsWith("VmRSS:", StringComparison.Ordinal))
                .Split(' ', StringSplitOptions.RemoveEmptyEntries)[1],
            null
        );

    /// <summary>It can be ended as any other, and nothing of it is left.</summary>
    private static async Task Ends(Sentry sentry)
    {
        Assert.Contains("guest", (await sentry.Ok("list")).Output, StringComparison.Ordinal);
        await sentry.Ok("stop", "guest");
        Assert.Empty(WindowTests.Displays(sentry));
        Assert.Empty(sentry.Processes("guest"));
    }

    [Theory]
    [InlineData("draw")]
    [InlineData("clipboard")]
    [InlineData("size")]
    public async Task What_never_rests_costs_its_own_time_and_little_of_the_sentrys(string what)
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, what);
        await Prints(sentry, "begun");
        var (before, began, memory) = (Ticks(sentry), Stopwatch.GetTimestamp(), Memory(sentry));
        for (var look = 0; look < 5; look++)
        {
            // Seen all the while, or said why it is not.
            var seen = await sentry.Calm("window", "guest", "--to", Path.Combine(sentry.Places.Root, "seen.png"));
            Assert.True(seen.Exit == 0 || seen.All.Contains("gave no picture", StringComparison.Ordinal), seen.All);
            await Task.Delay(1000);
        }

        // Pictures are taken now and then, however often they change: a good half of a processor is left, with five asked for.
        var share = (Ticks(sentry) - before) / 100.0 / Stopwatch.GetElapsedTime(began).TotalSeconds;
        Assert.InRange(share, 0, 0.5);
        Assert.InRange(Memory(sentry) - memory, long.MinValue, 64 << 10);
        await Ends(sentry);
    }

    /// <summary>CALM_MANY: how many; the display takes its time for ten thousand.</summary>
    [Fact]
    public async Task Thousands_of_dialogs_are_one_that_is_noticed()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "windows", Environment.GetEnvironmentVariable("CALM_MANY") ?? "2000");
        await Prints(sentry, "all are open");
        await sentry.Until("guest", view => view.TryGetProperty("asks", out var asks) && asks.GetString() == "");
        Assert.InRange(Memory(sentry), 0, 300 << 10);
        Assert.Single(
            (await sentry.Ok("logbook", "guest")).Output.Split('\n'),
            line => line.Contains("It probably asks in a window", StringComparison.Ordinal)
        );
        await Ends(sentry);
    }

    [Fact]
    public async Task What_grabs_all_there_is_is_still_seen_and_ended()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "grab");
        await Prints(sentry, "all is grabbed");
        Assert.True(await WindowTests.Picture(sentry, "guest") is (400, 300, _));
        // A display that answers nobody but its holder is said to be so, once.
        await Sentry.Eventually(async () =>
            (await sentry.Ok("logbook")).Output.Contains("the display does not answer", StringComparison.Ordinal)
        );
        await Ends(sentry);
    }

    /// <summary>The sockets of its display are its account's: what it puts there itself is heard as what it is, and bounded.</summary>
    [Fact]
    public async Task What_plays_its_own_display_is_not_believed()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "lies");
        await Prints(sentry, "begun");
        var memory = Memory(sentry);
        for (var look = 0; look < 16; look++)
        {
            var seen = await sentry.Calm("window", "guest", "--to", Path.Combine(sentry.Places.Root, "seen.png"));
            Assert.NotEqual(0, seen.Exit);
            Assert.Contains("gave no picture", seen.All, StringComparison.Ordinal);
        }

        Assert.InRange(Memory(sentry) - memory, long.MinValue, 100 << 10);
        await sentry.KillServer();
        await sentry.Serve();
        await sentry.Until("guest", view => view.GetProperty("state").GetString() == "running");
        await Ends(sentry);
    }

    /// <summary>Nobody is let wait at its display's sockets: whoever asks is told so, and a server that comes anew ends it as any other.</summary>
    [Fact]
    public async Task What_takes_nobody_holds_no_server_up()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "full");
        await Prints(sentry, "begun");
        var threads = Directory.GetDirectories($"/proc/{sentry.ServerPid}/task").Length;
        for (var look = 0; look < 20; look++)
            Assert.Contains(
                "gave no picture",
                (await sentry.Calm("window", "guest", "--to", Path.Combine(sentry.Places.Root, "seen.png"))).All,
                StringComparison.Ordinal
            );
        Assert.InRange(Directory.GetDirectories($"/proc/{sentry.ServerPid}/task").Length, 1, threads + 4);
        await sentry.KillServer();
        await sentry.Serve();
        await Ends(sentry);
    }

    /// <summary>Bells and events without a pause are heard at a pace: a display that floods costs at most 5 % of a processor.</summary>
    [Fact]
    public async Task What_floods_is_heard_at_a_pace()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "flood");
        await Prints(sentry, "begun");
        await Task.Delay(TimeSpan.FromSeconds(8)); // what it may say at once after a quiet while
        var (before, began) = (Ticks(sentry), Stopwatch.GetTimestamp());
        await Task.Delay(TimeSpan.FromSeconds(10));
        var share = (Ticks(sentry) - before) / 100.0 / Stopwatch.GetElapsedTime(began).TotalSeconds;
        Assert.InRange(share, 0, 0.05);
        await Ends(sentry);
    }

    /// <summary>A display that is kept stopped answers nobody: it is said, and the service is ended as ever.</summary>
    [Fact]
    public async Task A_display_that_is_stopped_holds_nobody_up()
    {
        if (Environment.UserName != "root")
            return;
        await using var sentry = await Sentry.Start();
        await Wrap(sentry, "draw");
        await Prints(sentry, "begun");
        Sentry.Kill(WindowTests.Displays(sentry).Single(), "STOP");
        var seen = await sentry.Calm("window", "guest", "--to", Path.Combine(sentry.Places.Root, "seen.png"));
        Assert.Contains("gave no picture", seen.All, StringComparison.Ordinal);
        await Ends(sentry);
    }
}
