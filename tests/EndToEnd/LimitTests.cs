namespace CalmSentry.Tests.EndToEnd;

/// <summary>What a program is denied it does not get, and limits bite.</summary>
[Needs("perl")]
public class LimitTests
{
    [Fact]
    public async Task A_memory_hog_is_ended_and_its_outcome_says_why()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "spooler",
            "--memory",
            "32MiB",
            "--recover",
            "never",
            "--",
            sentry.Script("hog", "#!/bin/sh\necho begun\nexec tail /dev/zero\n")
        );
        await sentry.Calm("start", "spooler");
        var over = await sentry.Until(
            "spooler",
            view => view.GetProperty("state").GetString() == "stopped" && view.GetProperty("run").GetInt64() == 1
        );
        Assert.Contains(
            "was killed by signal KILL: it had reached its memory limit",
            over.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        Assert.Contains("memory limit", (await sentry.Ok("show", "spooler")).Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_fork_bomb_stops_at_its_ceiling_and_the_sentry_stays_responsive()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "bomb",
            "--tree-size",
            "40",
            "--cpu",
            "50%",
            "--start",
            "--",
            sentry.Script("bomb", "#!/usr/bin/perl\nfor (;;) { fork; select undef, undef, undef, 0.01 }\n")
        );
        for (var i = 0; i < 20; i++)
        {
            await sentry.Ok("list");
            Assert.InRange(sentry.Processes("bomb").Count, 1, 40);
        }

        await sentry.Ok("stop", "bomb");
        Assert.Empty(sentry.Processes("bomb"));
    }

    [Fact]
    public async Task What_is_shown_is_what_the_kernel_has()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "counter",
            "--memory",
            "64MiB",
            "--tree-size",
            "20",
            "--cpu",
            "50%",
            "--processors",
            "0",
            "--priority",
            "above-normal",
            "--disk",
            "high",
            "--open-files",
            "300",
            "--umask",
            "0027",
            "--group",
            "audio",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        var service = await sentry.Show("counter");
        var pid = service.GetProperty("pid").GetInt32();
        var force = service
            .GetProperty("in-force")
            .EnumerateArray()
            .ToDictionary(one => one.GetProperty("key").GetString()!, one => one.GetProperty("kernel").GetString());
        Assert.All(
            service.GetProperty("in-force").EnumerateArray(),
            one => Assert.True(one.GetProperty("same").GetBoolean(), one.ToString())
        );
        Assert.Equal(
            ("64 MiB", "20", "50 %", "0", "nice -5", "best effort, level 0", "300", "0027"),
            (
                force["resources.memory"],
                force["resources.tree-size"],
                force["resources.cpu"],
                force["resources.processors"],
                force["resources.priority"],
                force["resources.disk"],
                force["resources.open-files"],
                force["identity.umask"]
            )
        );
        // And the kernel says the same to whoever asks it directly.
        var limits = await File.ReadAllTextAsync($"/proc/{pid}/limits");
        Assert.Matches(@"Max open files\s+300\s+300", limits);
        var status = await File.ReadAllTextAsync($"/proc/{pid}/status");
        Assert.Matches(@"Cpus_allowed_list:\s+0\n", status);
        Assert.Matches(@"NoNewPrivs:\s+1", status);
        Assert.Equal(" -5 ", $" {(await File.ReadAllTextAsync($"/proc/{pid}/stat")).Split(") ")[1].Split(' ')[16]} ");
    }

    [Fact]
    public async Task A_program_cannot_gain_back_what_it_was_denied()
    {
        await using var sentry = await Sentry.Start();
        var shell = Path.Combine(sentry.Places.Root, "rootshell");
        File.Copy("/bin/dash", shell);
        File.SetUnixFileMode(shell, (UnixFileMode)0b100_111_101_101); // belongs to root, with the set-user-ID bit
        var groups = Directory.GetDirectories("/sys/fs/cgroup");
        var tries = sentry.Script(
            "tries",
            $$"""
            #!/bin/sh
            {{shell.Quoted()}} -p -c 'echo "root: $(id -u)"'
            su -c id root </dev/null >/dev/null 2>&1 && echo "su: worked"
            (ulimit -n 4096) 2>/dev/null && echo "files: raised"
            (ulimit -Hn 4096) 2>/dev/null && echo "hard files: raised"
            renice -n -5 -p $$ >/dev/null 2>&1 && echo "priority: raised"
            taskset -pc 0-63 $$ >/dev/null 2>&1
            grep Cpus_allowed_list /proc/self/status
            for group in {{string.Join(
                ' ',
                groups
            )}} /sys/fs/cgroup; do (echo $$ >"$group/cgroup.procs") 2>/dev/null && echo "group: left for $group"; done
            for limit in /sys/fs/cgroup/*/calm-sentry-*/tries/* /sys/fs/cgroup/*/calm-sentry-*/tries.*/*; do (echo 99999999999 >"$limit") 2>/dev/null && echo "limit: changed $limit"; done
            newgrp root </dev/null >/dev/null 2>&1 && echo "groups: gained"
            echo "groups: $(id -G)"
            head -c 1 /etc/shadow 2>/dev/null && echo "shadow: read"
            echo over
            exec sleep 600
            """
        );
        await sentry.Wrap(
            "tries",
            "--open-files",
            "64",
            "--memory",
            "64MiB",
            "--tree-size",
            "30",
            "--processors",
            "0",
            "--priority",
            "below-normal",
            "--start",
            "--",
            tries
        );
        var output = Path.Combine(sentry.Places.OutputOf("tries"));
        await Sentry.Eventually(async () =>
            (await File.ReadAllTextAsync(output)).Contains("over\n", StringComparison.Ordinal)
        );
        var said = await File.ReadAllTextAsync(output);
        Assert.Equal("root: 65534\nCpus_allowed_list:\t0\ngroups: 65534\nover\n", said);
    }

    [Fact]
    public async Task Without_a_ceiling_any_more_the_next_run_is_free_of_it()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("counter", "--memory", "64MiB", "--tree-size", "5", "--start", "--", "/bin/sleep", "600");
        var adjusted = await sentry.Ok("adjust", "counter", "--unset", "resources.memory", "--tree-size", "7");
        Assert.Contains("resources.memory is no longer set (was '64 MiB')", adjusted.Output, StringComparison.Ordinal);
        Assert.Contains("'calm restart counter' applies the change", adjusted.Output, StringComparison.Ordinal);
        await sentry.Ok("restart", "counter");
        var force = (await sentry.Show("counter"))
            .GetProperty("in-force")
            .EnumerateArray()
            .ToDictionary(one => one.GetProperty("key").GetString()!, one => one.GetProperty("kernel").GetString());
        Assert.Equal(("no limit", "7"), (force["resources.memory"], force["resources.tree-size"]));
        Assert.Equal(2, (await sentry.Show("counter")).GetProperty("revision").GetInt32());
        foreach (var memory in new[] { "64 MiB", "256 MiB", "96 MiB" }) // up and down
        {
            await sentry.Ok(
                "adjust",
                "counter",
                "--memory",
                memory,
                "--processors",
                memory == "256 MiB" ? "0" : $"0-{Environment.ProcessorCount - 1}"
            );
            await sentry.Ok("restart", "counter");
            Assert.Equal(
                memory,
                (await sentry.Show("counter"))
                    .GetProperty("in-force")
                    .EnumerateArray()
                    .Single(one => one.GetProperty("key").GetString() == "resources.memory")
                    .GetProperty("kernel")
                    .GetString()
            );
        }

        // An empty text is a value like any other; only --unset takes a key away.
        await sentry.Ok("adjust", "counter", "--environment", "EMPTY=", "--environment", "TIDE=high");
        await sentry.Ok("adjust", "counter", "--unset", "program.environment.TIDE");
        Assert.Equal(
            "{\"EMPTY\":\"\"}",
            (await sentry.Show("counter"))
                .GetProperty("definition")
                .GetProperty("program")
                .GetProperty("environment")
                .ToString()
                .Replace(" ", "", StringComparison.Ordinal)
                .Replace("\n", "", StringComparison.Ordinal)
        );
        // What could not run again is found before anything is stopped.
        var gone = Directory.CreateDirectory(Path.Combine(sentry.Places.Root, "gone")).FullName;
        await sentry.Ok("adjust", "counter", "--directory", gone);
        Directory.Delete(gone);
        var pid = (await sentry.Show("counter")).GetProperty("pid").GetInt32();
        Assert.Contains(
            $"The directory {gone} is not there.",
            (await sentry.Calm("restart", "counter")).Error,
            StringComparison.Ordinal
        );
        Assert.Equal(pid, (await sentry.Show("counter")).GetProperty("pid").GetInt32());
    }

    [Fact]
    public async Task Where_a_ceiling_cannot_be_set_it_is_said_and_the_program_runs_without()
    {
        await using var sentry = await Sentry.StartWithoutRoot();
        await sentry.Wrap(
            "board",
            "--memory",
            "64 MiB",
            "--tree-size",
            "10",
            "--proof",
            "up-for:0s",
            "--",
            "/bin/sleep",
            "600"
        );
        Assert.Contains("limit-not-possible", (await sentry.Calm("check", "board")).All, StringComparison.Ordinal);
        await sentry.Ok("start", "board");
    }
}
