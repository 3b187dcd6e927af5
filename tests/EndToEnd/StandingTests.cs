using System.Diagnostics;

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
        // What may be opened is the host's usual; every other limit is that of the host's first process, where root can ask for it.
        var own = File.ReadLines($"/proc/{(Environment.UserName == "root" ? 1 : await sentry.Server())}/limits")
            .Where(line => line.StartsWith("Max ", StringComparison.Ordinal))
            .ToList();
        Assert.True(own.Count > 10);
        Assert.All(
            own.Where(line => !line.StartsWith("Max open files", StringComparison.Ordinal)),
            line => Assert.Contains(line, lines)
        );
    }

    /// <summary>Whoever began the sentry may have had all of these otherwise: docs/inside/launch.md has the list.</summary>
    private const string Odd = """
        import ctypes, os, resource, sys
        libc = ctypes.CDLL(None, use_errno=True)
        def call(number, *rest): return libc.syscall(ctypes.c_long(number), *[ctypes.c_long(r) if isinstance(r, int) else r for r in rest])
        if sys.argv[1] == "begin":
            call(250, 1, 0)  # keyctl: a session keyring, and a key in it
            call(248, b"user", b"calm-trial", b"secret", 6, -3)
            libc.prctl(29, 1_000_000_000)  # timer slack
            libc.prctl(41, 1, 0, 0, 0)  # no huge pages
            libc.prctl(28, 1 << 6, 0, 0, 0)  # securebits: no ambient rights
            libc.personality(0x0040000)  # no address is random
            call(238, 1, 0, 0)  # memory policy: preferred
            os.sched_setscheduler(0, os.SCHED_BATCH, os.sched_param(0))
            os.sched_setaffinity(0, {0})
            call(251, 1, 0, 3 << 13)  # disk: when nobody else wants it
            for limit in (resource.RLIMIT_STACK, resource.RLIMIT_MEMLOCK, resource.RLIMIT_CORE, resource.RLIMIT_NPROC):
                soft, hard = resource.getrlimit(limit)
                resource.setrlimit(limit, (12_345_678 if hard < 0 else min(hard, 12_345_678), hard))
            os.execvp(sys.argv[2], sys.argv[2:])
        mode = ctypes.c_int(-1)
        call(239, ctypes.byref(mode), 0, 0, 0, 0)
        print("key", call(250, 10, -3, b"user", b"calm-trial", 0) > 0)
        print("slack", libc.prctl(30, 0, 0, 0, 0))
        print("huge", libc.prctl(42, 0, 0, 0, 0))
        print("securebits", libc.prctl(27, 0, 0, 0, 0))
        print("personality", hex(libc.personality(0xFFFFFFFF)))
        print("memory", mode.value)
        print("scheduler", os.sched_getscheduler(0))
        print("processors", sorted(os.sched_getaffinity(0)))
        print("disk", call(252, 1, 0))
        print(open("/proc/self/limits").read())
        print("at the end", flush=True)
        """;

    [Fact]
    public async Task Whoever_begins_the_sentry_hands_nothing_on()
    {
        if (
            Environment.UserName != "root"
            || System.Runtime.InteropServices.RuntimeInformation.ProcessArchitecture
                != System.Runtime.InteropServices.Architecture.X64
        )
            Assert.Skip("needs root, and the numbers of calls on x86_64");
        var script = Path.Combine(Directory.CreateTempSubdirectory("calm-odd-").FullName, "odd.py");
        await File.WriteAllTextAsync(script, Odd, TestContext.Current.CancellationToken);
        using var plain = Process.Start(
            new ProcessStartInfo("/usr/bin/python3", [script, "look"]) { RedirectStandardOutput = true }
        )!;
        var first = (await plain.StandardOutput.ReadToEndAsync(TestContext.Current.CancellationToken)).Split('\n');
        await using var sentry = await Sentry.Start("unshare", "--uts", "/usr/bin/python3", script, "begin");
        // Namespaces stay as they are, and it is said where they differ.
        if (new FileInfo("/proc/1/ns/uts").LinkTarget is not null)
            Assert.Contains("first process: uts", (await sentry.Ok("host", "status")).Output, StringComparison.Ordinal);
        // It has it, and hands nothing of it on.
        var server = await sentry.Server();
        Assert.Equal("1000000000", File.ReadAllText($"/proc/{server}/timerslack_ns").Trim());
        Assert.Contains(
            "Max stack size            12345678",
            File.ReadAllText($"/proc/{server}/limits"),
            StringComparison.Ordinal
        );
        await sentry.Wrap(
            "berth",
            "--proof",
            "output:at the end",
            "--recover",
            "never",
            "--start",
            "--",
            "/usr/bin/python3",
            sentry.Script("look.py", Odd + "\nimport time\ntime.sleep(600)\n"),
            "look"
        );
        var lines = (await sentry.Ok("output", "berth", "--last", "200")).Output.Split('\n');
        Assert.Contains("key False", lines);
        Assert.Contains("slack 50000", lines);
        Assert.Contains("personality 0x0", lines);
        foreach (var name in (string[])["huge ", "securebits ", "memory ", "scheduler ", "processors ", "disk "])
            Assert.Contains(first.Single(line => line.StartsWith(name, StringComparison.Ordinal)), lines);
        foreach (
            var limit in File.ReadLines("/proc/1/limits")
                .Where(line => line.StartsWith("Max ", StringComparison.Ordinal))
                .Where(line => !line.StartsWith("Max open files", StringComparison.Ordinal))
        )
            Assert.Contains(limit, lines);
    }

    private static readonly string[] Named = ["NoNewPrivs:", "Umask:", "Threads:", "owner", "session", "open"];

    private static string Standing(int pid) => File.ReadAllText($"/proc/{pid}/oom_score_adj").Trim();
}
