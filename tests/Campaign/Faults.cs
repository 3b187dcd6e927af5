using System.Diagnostics;

namespace CalmSentry.Tests.Campaign;

/// <summary>Something that is done to the sentry, or asked of it.</summary>
/// <param name="Weight">How often it comes, against the others.</param>
internal sealed record Fault(string Name, int Weight, Func<Machine, Random, Task> Do);

/// <summary>A command that was given.</summary>
/// <param name="Service">Null: it is about none.</param>
/// <param name="What">start, stop, restart, swap, grant, take, or the title it was given.</param>
internal sealed record Asked(string? Service, string What)
{
    /// <summary>What came of it; null while it is under way.</summary>
    public Said? Said { get; set; }
}

/// <summary>All kinds of faults and commands.</summary>
internal sealed partial class Faults
{
    private const int Kill = 9,
        Stop = 19,
        Continue = 18;

    private readonly List<int> frozen = [];
    private readonly List<Task> underWay = [];

    /// <summary>How often the server was kept from answering anybody, and whether it is now.</summary>
    public int TimesDeaf { get; private set; }

    public bool Deaf => Volatile.Read(ref deaf) > 0;

    private int deaf;

    /// <summary>What was asked since all was last at rest, in its order.</summary>
    public List<Asked> Asked { get; } = [];

    public IReadOnlyList<Fault> All { get; }

    /// <summary>What was noted of moments may be lost, or time was.</summary>
    public bool MomentsMayComeAgain { get; private set; }

    /// <summary>An older store was put back: what was told before that is so no more.</summary>
    public bool WentBack { get; private set; }

    /// <summary>All was looked at: what is asked and done from here on counts.</summary>
    public void BeginAnew()
    {
        Asked.Clear();
        (MomentsMayComeAgain, WentBack) = (false, false);
    }

    /// <summary>When something that was frozen went on last.</summary>
    public DateTime LastThaw { get; private set; }

    public Faults(Machine machine, Alarms alarms, Viewers viewers, Completions completions) =>
        All = [
            new("let one fall for good", 3, (_, _) => Done(() => underWay.Add(Task.Run(alarms.Fall)))),
            new("the receiver of messages fails", 2, (_, random) => Done(() => FailReceiver(alarms, random))),
            .. Means(this, machine),
            new("kill the server", 8, (machine, _) => Done(() => Machine.Signal(machine.Server, Kill))),
            // Not while it has no second, as where no process can be made: all of them killed at once is for the host's start.
            new(
                "kill the guard",
                3,
                (machine, _) => Done(() => Machine.Signal(machine.HasSecond ? machine.Guard : 0, Kill))
            ),
            new(
                "kill guard and server",
                4,
                (machine, _) =>
                    Done(() =>
                    {
                        var (guard, server) = (machine.Guard, machine.Server);
                        Machine.Signal(machine.HasSecond ? guard : 0, Kill);
                        Machine.Signal(server, Kill);
                    })
            ),
            new(
                "kill a keeper",
                6,
                (machine, random) => Done(() => Machine.Signal(Any(machine.Keepers, random), Kill))
            ),
            new(
                "kill a program",
                10,
                (machine, random) => Done(() => Machine.Signal(AnyProgram(machine, random), Kill))
            ),
            new(
                "kill a display",
                4,
                (machine, random) =>
                    Done(() =>
                        Machine.Signal(
                            Any(machine.Marked().Where(one => one.Id.Contains('-')).Select(one => one.Pid), random),
                            Kill
                        )
                    )
            ),
            new(
                "kill a keeper and the server",
                6,
                (machine, random) =>
                    Done(() =>
                    {
                        Machine.Signal(Any(machine.Keepers, random), Kill);
                        Machine.Signal(machine.Server, Kill);
                    })
            ),
            new(
                "kill a program and the server",
                6,
                (machine, random) =>
                    Done(() =>
                    {
                        Machine.Signal(machine.Server, Kill);
                        Machine.Signal(AnyProgram(machine, random), Kill);
                    })
            ),
            new(
                "kill all keepers and the server",
                2,
                (machine, _) =>
                    Done(() =>
                    {
                        foreach (var keeper in machine.Keepers.ToList())
                            Machine.Signal(keeper, Kill);
                        Machine.Signal(machine.Server, Kill);
                    })
            ),
            new("freeze a keeper", 4, (machine, random) => Freeze(Any(machine.Keepers, random), random)),
            // Nobody else lets a server go on that somebody has stopped: it always does after a while.
            new("freeze the server", 2, FreezeServer),
            new("freeze a program", 2, (machine, random) => Freeze(AnyProgram(machine, random), random)),
            new("lose a keeper's socket", 3, (machine, random) => Done(() => Lose(machine, "socket", random))),
            new("lose an order's note", 3, (machine, random) => Done(() => Lose(machine, "order.*", random))),
            new("lose an outcome", 2, (machine, random) => Done(() => Lose(machine, "outcome.*", random))),
            new("start one", 8, (machine, random) => Ask(machine, "start", random)),
            new("stop one", 8, (machine, random) => Ask(machine, "stop", random)),
            new("restart one", 6, (machine, random) => Ask(machine, "restart", random)),
            new("adjust one", 4, Adjust),
            new("give one new files", 3, Swap),
            new("keep the output of one elsewhere", 3, Elsewhere),
            new("write the days that are left out", 2, WriteDays),
            new("settle the files of one", 3, SettleFiles),
            new("restart one with those that need it", 2, RestartAll),
            new("start several", 3, (machine, random) => Together(machine, "start", random, "--without-needs")),
            new("stop several", 2, (machine, random) => Together(machine, "stop", random, "--alone")),
            new("restart several", 2, (machine, random) => Together(machine, "restart", random, "--with-dependents")),
            new("a drill", 1, (machine, _) => Ask(machine, null, "drill", ["drill", "--yes"])),
            new("kill a client", 4, KillClient),
            new("join a terminal", 6, (_, random) => viewers.Join(random)),
            new(
                "complete a path",
                8,
                (_, random) =>
                {
                    var own = new Random(random.Next());
                    return Done(() => underWay.Add(Task.Run(() => completions.Complete(own))));
                }
            ),
            .. machine.IsRoot
                ? (Fault[])
                    [
                        new("grant a folder", 3, (machine, random) => Right(machine, "grant", random)),
                        new("take a folder back", 1, (machine, random) => Right(machine, "take", random)),
                        new("knock and hang up", 2, Knock),
                    ]
                : [],
        ];

    /// <summary>Lets go on whatever was stopped, and waits for what was asked.</summary>
    public async Task Settle()
    {
        foreach (var pid in frozen)
            Thaw(pid);
        frozen.Clear();
        await Task.WhenAll(underWay).ConfigureAwait(false);
        underWay.Clear();
    }

    private static Task Done(Action what)
    {
        what();
        return Task.CompletedTask;
    }

    private static int Any(IEnumerable<int> pids, Random random) =>
        pids.Order().ToList() is { Count: > 0 } all ? all[random.Next(all.Count)] : 0;

    private static int AnyProgram(Machine machine, Random random) =>
        Any(machine.Marked().Select(one => one.Pid), random);

    private Task Freeze(int pid, Random random)
    {
        if (pid <= 1)
            return Task.CompletedTask;
        Machine.Signal(pid, Stop);
        frozen.Add(pid);
        // Most go on after a while; some stay as they are until all is to settle.
        if (random.Next(4) > 0)
            underWay.Add(Later(TimeSpan.FromMilliseconds(random.Next(50, 1500)), () => Thaw(pid)));
        return Task.CompletedTask;
    }

    private void Thaw(int pid)
    {
        Machine.Signal(pid, Continue);
        LastThaw = DateTime.UtcNow;
    }

    private void FailReceiver(Alarms alarms, Random random)
    {
        alarms.BeginFailing();
        underWay.Add(Later(TimeSpan.FromMilliseconds(random.Next(100, 3000)), alarms.EndFailing));
    }

    private Task FreezeServer(Machine machine, Random random)
    {
        if (machine.Server is not (> 1 and var server))
            return Task.CompletedTask;
        Machine.Signal(server, Stop);
        frozen.Add(server);
        BeginDeaf();
        underWay.Add(
            Later(
                TimeSpan.FromMilliseconds(random.Next(50, 1500)),
                () =>
                {
                    Thaw(server);
                    EndDeaf();
                }
            )
        );
        return Task.CompletedTask;
    }

    private void BeginDeaf()
    {
        TimesDeaf++;
        Interlocked.Increment(ref deaf);
    }

    private void EndDeaf() => Interlocked.Decrement(ref deaf);

    private static async Task Later(TimeSpan after, Action what)
    {
        await Task.Delay(after).ConfigureAwait(false);
        what();
    }

    private static void Lose(Machine machine, string pattern, Random random)
    {
        try
        {
            var files = Directory
                .EnumerateFiles(
                    Path.Combine(machine.Places.RunDirectory, "services"),
                    pattern,
                    SearchOption.AllDirectories
                )
                .Order(StringComparer.Ordinal)
                .ToList();
            if (files.Count > 0)
                File.Delete(files[random.Next(files.Count)]);
        }
        catch (IOException)
        {
            // It went by itself.
        }
    }

    private Task Ask(Machine machine, string what, Random random)
    {
        var service = Fleet.All[random.Next(Fleet.All.Count)].Name;
        return Ask(machine, service, what, what == "start" ? [what, service] : [what, service, "--alone"]);
    }

    private Task Adjust(Machine machine, Random random)
    {
        var service = Fleet.All[random.Next(Fleet.All.Count)].Name;
        var title = $"{service} {random.Next(1000)}";
        return Ask(machine, service, title, ["adjust", service, "--title", title]);
    }

    private Task Swap(Machine machine, Random random)
    {
        var members = Fleet.All.Where(member => member.Swaps).ToList();
        var (member, number) = (members[random.Next(members.Count)], random.Next());
        var files = Machine.Files(
            Path.Combine(machine.Places.Root, "new", $"{member.Name}-{number}"),
            number,
            bad: random.Next(4) == 0
        );
        return Ask(
            machine,
            member.Name,
            "swap",
            ["swap", member.Name, "--from", files, "--alone", "--watch-for", "1s"] // a busy machine is slow to fall
        );
    }

    /// <summary>One is written as a file, changed there, and the machine brought to it: of what others changed meanwhile nothing is lost.</summary>
    private Task SettleFiles(Machine machine, Random random)
    {
        var (service, number) = (Fleet.All[random.Next(Fleet.All.Count)].Name, random.Next());
        underWay.Add(
            Task.Run(async () =>
            {
                var written = await machine.Calm("export", service).ConfigureAwait(false);
                if (written.Exit != 0)
                    return;
                var place = Directory.CreateDirectory(Path.Combine(machine.Places.Root, "settled", $"{number}"));
                var lines = written
                    .Output.Split('\n')
                    .Where(line => !line.StartsWith("notes:", StringComparison.Ordinal));
                await File.WriteAllTextAsync(
                        Path.Combine(place.FullName, "own.yaml"),
                        $"{string.Join('\n', lines)}notes: \"{number}\"\n"
                    )
                    .ConfigureAwait(false);
                await machine.Calm("settle", place.FullName, "--yes").ConfigureAwait(false);
            })
        );
        return Task.CompletedTask;
    }

    /// <summary>From its next start on all that one printed, and will print, lies in another directory, or where it lay at first.</summary>
    private Task Elsewhere(Machine machine, Random random)
    {
        var service = Fleet.All[random.Next(Fleet.All.Count)].Name;
        var folder = Directory.CreateDirectory(Path.Combine(machine.Places.Root, "elsewhere")).FullName;
        string[] where = random.Next(4) switch
        {
            0 => ["--unset", "output.directory"],
            var place => ["--output-directory", Path.Combine(folder, $"{service}-{place}")],
        };
        // No title and no state: what it comes to is seen in its lines, of which none may be missing.
        return Ask(machine, null, "output", ["adjust", service, .. where, "--accept", "output-directory-not-possible"]);
    }

    /// <summary>Days that are past, or nothing that is a day: the jobs go on at their moments.</summary>
    private static Task WriteDays(Machine machine, Random random) =>
        Done(() =>
        {
            var file = Fleet.DaysIn(machine.Places.Root);
            if (random.Next(4) == 0)
                File.Delete(file);
            else
                File.WriteAllText(file, random.Next(2) == 0 ? "2020-01-01 long ago\n" : "no day\n");
        });

    /// <summary>Several as one act: what is said of all is said of each.</summary>
    private Task Together(Machine machine, string what, Random random, string how)
    {
        var services = Fleet.All.Select(one => one.Name).OrderBy(_ => random.Next()).Take(random.Next(2, 6)).ToArray();
        var asked = Array.ConvertAll(services, service => new Asked(service, what));
        Asked.AddRange(asked);
        underWay.Add(
            Task.Run(async () =>
            {
                var said = await machine.Calm([what, .. services, how]).ConfigureAwait(false);
                Array.ForEach(asked, one => one.Said = said);
            })
        );
        return Task.CompletedTask;
    }

    private Task RestartAll(Machine machine, Random random)
    {
        string[] needed = ["fare-ledger", "departure-board", "tide-gauge"];
        var service = needed[random.Next(needed.Length)];
        return Ask(machine, service, "restart", ["restart", service, "--with-dependents"]);
    }

    /// <summary>Whoever asked does not wait for the answer: it is done, or it is not.</summary>
    private Task KillClient(Machine machine, Random random)
    {
        var service = Fleet.All[random.Next(Fleet.All.Count)].Name;
        string[][] commands =
        [
            ["start", service],
            ["stop", service, "--alone"],
            ["restart", service, "--alone"],
            ["adjust", service, "--title", $"{service} {random.Next(1000)}"],
            ["output", service, "--follow"],
        ];
        var command = commands[random.Next(commands.Length)];
        Asked.Add(new(service, command[0] == "adjust" ? command[3] : command[0]));
        var after = TimeSpan.FromMilliseconds(random.Next(10, 800));
        underWay.Add(Task.Run(() => machine.Calm(after, command)));
        return Task.CompletedTask;
    }

    private Task Right(Machine machine, string what, Random random)
    {
        var folder = machine.Granted[random.Next(machine.Granted.Count)];
        string[] how =
            what == "take" ? []
            : random.Next(2) == 0 ? ["--yes", "--read"]
            : ["--yes"];
        return Ask(machine, null, what, ["account", what, machine.Account, folder, .. how]);
    }

    /// <summary>Another account connects and hangs up without pause.</summary>
    private Task Knock(Machine machine, Random random)
    {
        const string knock =
            "my $to = sockaddr_un($ARGV[0]); while (1) { socket(my $s, PF_UNIX, SOCK_STREAM, 0); connect($s, $to); close $s }";
        var seconds = random.Next(1, 20) / 10m;
        for (var i = 0; i < 4; i++)
        {
            var knocker = Process.Start(
                "timeout",
                [
                    $"{seconds}",
                    "setpriv",
                    "--reuid=daemon",
                    "--regid=daemon",
                    "--clear-groups",
                    "perl",
                    "-MSocket",
                    "-e",
                    knock,
                    machine.Places.ApiSocket,
                ]
            );
            underWay.Add(knocker.WaitForExitAsync());
        }

        return Task.CompletedTask;
    }

    private Task Ask(Machine machine, string? service, string what, string[] command)
    {
        var asked = new Asked(service, what);
        Asked.Add(asked);
        underWay.Add(Task.Run(async () => asked.Said = await machine.Calm(command).ConfigureAwait(false)));
        return Task.CompletedTask;
    }
}
