namespace CalmSentry.Tests.EndToEnd;

/// <summary>A machine in trouble, and one on which nothing is to be begun.</summary>
public class StandingTests
{
    [Fact]
    public async Task The_sentry_is_kept_from_the_choice_when_memory_runs_out_and_its_programs_are_not()
    {
        await using var sentry = await Sentry.StartGuarded();
        // A machine may keep that from its root, too (CAP_SYS_RESOURCE); then all stay as they are.
        var kept =
            (await Sentry.As(Environment.UserName, "sh", "-c", "echo -900 >/proc/self/oom_score_adj")).Exit == 0
                ? "-900"
                : "0";
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "691");
        var program = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        foreach (var own in new[] { await sentry.Guard(), await sentry.Server(), Sentry.Parent(program) })
            Assert.Equal(kept, Standing(own));
        Assert.Equal("0", Standing(program));
        // What is run for a check or a proof is a program's, too.
        var seen = Path.Combine(sentry.Places.StateOf("board"), "standing");
        await sentry.Wrap(
            "board",
            "--proof",
            "command:" + sentry.Script("looks", $"#!/bin/sh\ncat /proc/self/oom_score_adj >{seen.Quoted()}\n").Quoted(),
            "--start",
            "--",
            "/bin/sleep",
            "692"
        );
        Assert.Equal("0", (await File.ReadAllTextAsync(seen, TestContext.Current.CancellationToken)).Trim());
    }

    [Fact]
    public async Task Programs_get_the_hosts_usual_limit_of_open_files_not_the_sentrys_raised_one()
    {
        // Whoever starts the sentry may have less open than he could ask for; its runtime asks for all.
        await using var sentry = await Sentry.Start("sh", "-c", "ulimit -Sn 777; \"$0\" \"$@\"");
        await sentry.Wrap(
            "tide",
            "--proof",
            "output:777",
            "--start",
            "--",
            sentry.Script("tide", "#!/bin/sh\nulimit -Sn\nulimit -Sn 778 && echo may ask for more\nexec sleep 693\n")
        );
        await Sentry.Eventually(async () =>
            (await sentry.Ok("output", "tide")).Output.Contains("may ask for more", StringComparison.Ordinal)
        );
    }

    [Fact]
    public async Task A_machine_can_come_up_with_nothing_begun_and_list_and_status_say_so()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--at", "boot", "--start", "--", "/bin/sleep", "694");
        await sentry.Wrap("board", "--at", "boot-late", "--start", "--", "/bin/sleep", "695");
        await sentry.Ok("host", "wind-down");
        await sentry.KillServer();
        Directory.CreateDirectory(Path.GetDirectoryName(sentry.Places.BeginNothing)!);
        await File.WriteAllTextAsync(sentry.Places.BeginNothing, "", TestContext.Current.CancellationToken);

        await sentry.Serve(); // as after a boot: what was wound down would begin
        var listed = await sentry.Ok("list", "--json");
        Assert.All(
            listed.Json.EnumerateArray(),
            view => Assert.Equal("stopped", view.GetProperty("state").GetString())
        );
        Assert.Contains("Nothing was started at this boot", listed.Error, StringComparison.Ordinal);
        Assert.Contains("begin-nothing is there", (await sentry.Ok("host", "status")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "nothing was to be started",
            (await sentry.Ok("logbook", "tide")).Output,
            StringComparison.Ordinal
        );

        // It is said until somebody has started what would have begun.
        await sentry.Ok("start", "tide", "board");
        Assert.DoesNotContain("Nothing was started", (await sentry.Ok("list")).Error, StringComparison.Ordinal);
    }

    [Theory]
    [InlineData("plain", "")]
    [InlineData("at a terminal", "terminal: true")]
    public async Task A_program_inherits_this_and_nothing_else(string how, string terminal)
    {
        await using var sentry = await Sentry.Start();
        var definition = Path.Combine(sentry.Places.Root, "berth.yaml");
        await File.WriteAllTextAsync(
            definition,
            "name: berth\nprogram:\n  path: /bin/sh\n  arguments: [-c, 'cat /proc/self/status /proc/self/limits /proc/self/oom_score_adj; "
                + "stat -c \"owner %u\" /proc/self/status; echo \"session $(cut -d\" \" -f6 /proc/$$/stat) of $$\"; "
                + "echo terminal $(cut -d\" \" -f7 /proc/$$/stat); printf \"open \"; ls -m /proc/$$/fd; echo at the end; exec sleep 694']\n"
                + $"{(terminal.Length > 0 ? $"  {terminal}\n" : "")}identity: {{ account: nobody }}\nbegin: {{ proof: {{ output: at the end }} }}\n",
            TestContext.Current.CancellationToken
        );
        await sentry.Ok("wrap", "--from", definition, "--start");
        var lines = (await sentry.Ok("output", "berth", "--last", "200")).Output.Split('\n');
        string After(string name) =>
            string.Join(
                ' ',
                lines
                    .First(line => line.StartsWith(name, StringComparison.Ordinal))[name.Length..]
                    .Split((char[])[' ', '\t'], StringSplitOptions.RemoveEmptyEntries)
            );
        string[] none =
        [
            "SigPnd:",
            "ShdPnd:",
            "SigBlk:",
            "SigIgn:",
            "SigCgt:",
            "CapInh:",
            "CapPrm:",
            "CapEff:",
            "CapAmb:",
        ];
        Assert.All(none, name => Assert.Equal("0000000000000000", After(name)));
        var pid = (await sentry.Show("berth")).GetProperty("pid").GetInt32();
        Assert.Equal(
            [
                ("NoNewPrivs:", "1"),
                ("Umask:", "0022"),
                ("Threads:", "1"),
                ("owner", "65534"), // its own: it may be looked into by its account (PR_SET_DUMPABLE(2const))
                ("session", $"{pid} of {pid}"),
                ("open", "0, 1, 2"),
            ],
            Named.Select(name => (name, After(name)))
        );
        Assert.Equal(how == "plain", After("terminal") == "0");
        Assert.Equal(
            "0",
            lines.SkipWhile(line => !line.StartsWith("Max realtime timeout", StringComparison.Ordinal)).ElementAt(1)
        );
        // What may be opened is the host's usual; every other limit is as whoever begins the sentry has it.
        var own = File.ReadLines($"/proc/{await sentry.Server()}/limits")
            .Where(line => line.StartsWith("Max ", StringComparison.Ordinal))
            .ToList();
        Assert.True(own.Count > 10);
        Assert.All(
            own.Where(line => !line.StartsWith("Max open files", StringComparison.Ordinal)),
            line => Assert.Contains(line, lines)
        );
    }

    private static readonly string[] Named = ["NoNewPrivs:", "Umask:", "Threads:", "owner", "session", "open"];

    private static string Standing(int pid) => File.ReadAllText($"/proc/{pid}/oom_score_adj").Trim();
}
