namespace CalmSentry.Tests.EndToEnd;

/// <summary>What a program prints is kept, whole and in order.</summary>
public class OutputTests
{
    [Fact]
    public async Task Output_printed_while_no_server_watches_is_complete_and_in_order()
    {
        await using var sentry = await Sentry.Start();
        var gate = Path.Combine(sentry.Places.Root, "gate");
        var script = sentry.Script(
            "counter",
            $"#!/bin/sh\nseq 1 1000\nwhile [ ! -e {gate} ]; do sleep 0.02; done\nseq 1001 60000\necho over "
                + $">&2\nexec sleep 600\n"
        );
        await sentry.Wrap("counter", "--start", "--", script);
        await sentry.KillServer();
        await File.WriteAllTextAsync(gate, "");
        var output = sentry.Places.OutputOf("counter");
        await Sentry.Eventually(async () =>
            (await File.ReadAllTextAsync(output)).EndsWith("over\n", StringComparison.Ordinal)
        );
        await sentry.Serve();
        var said = await sentry.Ok("output", "counter", "--last", "100000");
        Assert.Equal(string.Concat(Enumerable.Range(1, 60000).Select(i => i + "\n")) + "over\n", said.Output);
        Assert.Equal("59999\n60000\nover\n", (await sentry.Ok("output", "counter", "--last", "3")).Output);
    }

    [Fact]
    public async Task Following_shows_each_line_as_it_comes()
    {
        await using var sentry = await Sentry.Start();
        var fifo = Path.Combine(sentry.Places.Root, "words");
        System.Diagnostics.Process.Start("mkfifo", ["-m", "666", fifo]).WaitForExit();
        await sentry.Wrap(
            "teller",
            "--start",
            "--",
            sentry.Script(
                "teller",
                $"#!/bin/sh\necho ready\nexec 3<>{fifo}\nwhile read -r word <&3; do echo \"heard $word\"; done\n"
            )
        );
        using var client = sentry.Http();
        using var reader = new StreamReader(
            await client.GetStreamAsync("http://sentry/api/services/teller/output?last=1&follow=true")
        );
        Assert.Equal("ready", await Next());
        await File.WriteAllTextAsync(fifo, "tide\n");
        Assert.Equal("heard tide", await Next());
        await File.WriteAllTextAsync(fifo, "ebb\n");
        Assert.Equal("heard ebb", await Next());

        async Task<string?> Next() => await reader.ReadLineAsync().WaitAsync(Sentry.Limit);
    }

    [Fact]
    public async Task A_full_disk_refuses_a_start_and_makes_a_running_program_wait_without_losing_a_byte()
    {
        if (Environment.UserName != "root")
            Assert.Skip("needs root to mount a small file system");
        await using var sentry = await Sentry.Start();
        var logs = sentry.Places.OutputDirectoryOf("talker");
        Directory.CreateDirectory(logs);
        System
            .Diagnostics.Process.Start("mount", ["-t", "tmpfs", "-o", "size=1m,mode=755", "small", logs])
            .WaitForExit();
        try
        {
            await sentry.Wrap(
                "talker",
                "--recover",
                "never",
                "--",
                sentry.Script("talker", "#!/bin/sh\nseq 1 200000\nexec sleep 600\n")
            );
            await sentry.Ok("start", "talker");
            var stuck = await sentry.Until("talker", view => view.GetProperty("health").GetString() == "poor");
            Assert.Contains("ENOSPC", stuck.GetProperty("why").GetString(), StringComparison.Ordinal);

            // Room is made, as an administrator would: everything that waited is written after what was kept.
            System.Diagnostics.Process.Start("mount", ["-o", "remount,size=8m", logs]).WaitForExit();
            await sentry.Until("talker", view => view.GetProperty("health").GetString() == "good");
            var output = sentry.Places.OutputOf("talker");
            await Sentry.Eventually(async () =>
                (await File.ReadAllTextAsync(output)).EndsWith("200000\n", StringComparison.Ordinal)
            );
            Assert.Equal(
                string.Concat(Enumerable.Range(1, 200000).Select(i => i + "\n")),
                await File.ReadAllTextAsync(output)
            );
            await sentry.Ok("stop", "talker");

            System.Diagnostics.Process.Start("sh", ["-c", $"cat /dev/zero > {logs}/fill 2>/dev/null"]).WaitForExit();
            var refused = await sentry.Calm("start", "talker");
            Assert.Equal(1, refused.Exit);
            Assert.Contains($"there is no room left for its output in {logs}", refused.Error, StringComparison.Ordinal);
            Assert.Equal("stopped", (await sentry.Show("talker")).GetProperty("state").GetString());
            Assert.Empty(sentry.Processes("talker"));
        }
        finally
        {
            await sentry.Calm("unwrap", "talker", "--yes");
            System.Diagnostics.Process.Start("umount", ["-l", logs]).WaitForExit();
        }
    }
}
