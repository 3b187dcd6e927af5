using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Telling;
using CalmSentry.Engine.Services;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>
/// Services of every temper under a sentry to which everything happens, from a seed: kills of server, keepers, programs,
/// and the machine; frozen keepers, full disks, set clocks, and the people who ask for things meanwhile. What must hold
/// at any moment is judged by the machine; what must hold once all is quiet, here.
/// </summary>
internal sealed class Simulation : IDisposable
{
    private static readonly string[] Names =
    [
        .. Enum.GetValues<Temper>().Select(one => Name(one)),
        "needing",
        "leaning",
        "pulls",
        "exports",
        "relays",
        "counts",
    ];
    private static readonly Principal Anna = new("anna");

    private readonly SimLoop loop;
    private readonly SimMachine machine;
    private readonly SimPeople people;
    private readonly SimFiles files;
    private readonly Places places;
    private readonly Dictionary<string, int> toldRevisions = [];
    private readonly Dictionary<string, string> toldNames = [];
    private readonly HashSet<string> toldGone = [];
    private readonly HashSet<string> toldStopped = [];
    private readonly HashSet<string> unwrapping = [];
    private readonly List<(byte[] Bytes, string End)> durable = [];
    private SimServer? server;

    public Simulation(int seed, string root)
    {
        loop = new(seed);
        machine = new(loop) { Tell = Note };
        people = new(loop);
        places = new(root);
        files = new(places);
        Directory.CreateDirectory(places.Library);
        Directory.CreateDirectory(places.RunDirectory);
        File.Create(places.Database).Dispose();
        Serve();
        Quiet(TimeSpan.FromSeconds(5));
        foreach (var name in Names)
            Wrap(name);
        Quiet(TimeSpan.FromSeconds(20));
    }

    public long Steps => loop.Steps;

    public int Faults { get; private set; }

    public List<string> History { get; } = [];

    public IReadOnlyList<string> Violations => machine.Violations;

    public string? Escaped => loop.Escaped;

    private static string Name(Temper temper) => temper.ToString().ToLowerInvariant();

    /// <summary>So many things happen; after each part of them all comes to rest, and everything is looked at.</summary>
    public void Go(int faults)
    {
        for (var i = 0; i < faults && machine.Violations.Count == 0; i++)
        {
            Faults++;
            Happen();
            loop.Pass(loop.Chance(0.3) ? loop.Between(0.1, 50) : loop.Between(50, 5000));
            if (loop.Chance(0.02))
                Rest();
        }

        if (machine.Violations.Count == 0)
            Rest();
    }

    /// <summary>A program ends while no server is there, and the host's clock is set before one is again.</summary>
    /// <returns>Whether its next run began within two minutes, and when the one before ended by the new time.</returns>
    public (bool Again, TimeSpan EndedAgo) EndsWhileAway(TimeSpan set)
    {
        Serve();
        loop.Pass(TimeSpan.FromSeconds(1));
        Wrap("steady");
        loop.Pass(TimeSpan.FromSeconds(1));
        var live = server!;
        var id = live.Registry.Named("steady")!.Id;
        live.Do("start", () => live.Registry.Named("steady")!.Ask(new StartAsked(Anna)));
        loop.Pass(TimeSpan.FromSeconds(2));
        Lose();
        machine.End(machine.Live(id.ToString()).Single(), 9);
        loop.Pass(TimeSpan.FromSeconds(1));
        loop.Set += set;
        Serve();
        var back = loop.Wall;
        loop.Pass(TimeSpan.FromMinutes(2));
        var runs = server!.Store.Runs(id, 10);
        return (runs.Count > 1, back - runs[^1].Ended!.Value);
    }

    /// <summary>A server is killed after it has a job begin at its moment, and before that is on record.</summary>
    /// <param name="name">Of the job.</param>
    /// <param name="before">How long after the moment.</param>
    /// <returns>The runs that were launched for that moment.</returns>
    public IReadOnlyList<long> RunsForAMomentNotOnRecord(string name, TimeSpan before)
    {
        Serve();
        loop.Pass(TimeSpan.FromSeconds(1));
        Wrap(name);
        loop.Pass(TimeSpan.FromSeconds(1));
        var actor = server!.Registry.Named(name)!;
        var label = actor.Id.ToString();
        server.Do("start", () => actor.Ask(new StartAsked(Anna)));
        loop.Pass(TimeSpan.FromMinutes(2)); // its first run is over
        var next = actor.Situation.Rhythm!.Next!;
        loop.Pass(next.Due!.Value - loop.Wall - TimeSpan.FromMilliseconds(500));
        machine.NoDisk = true;
        loop.Pass(TimeSpan.FromMilliseconds(500) + before);
        Lose();
        machine.NoDisk = false;
        loop.Pass(TimeSpan.FromSeconds(1));
        Serve();
        loop.Pass(TimeSpan.FromSeconds(20));
        return
        [
            .. machine
                .Moments.Where(one => one.Key.Label == label && one.Value == next.Next)
                .Select(one => one.Key)
                .Where(machine.Launched.Contains)
                .Select(one => one.Run),
        ];
    }

    /// <summary>Somebody stops a service while the disk takes nothing, and the server is killed before it does.</summary>
    /// <returns>Where it stands under the next server.</returns>
    public Phase StoppedNotOnRecord()
    {
        Serve();
        loop.Pass(TimeSpan.FromSeconds(1));
        Wrap("steady");
        loop.Pass(TimeSpan.FromSeconds(1));
        var actor = server!.Registry.Named("steady")!;
        server.Do("start", () => actor.Ask(new StartAsked(Anna)));
        loop.Pass(TimeSpan.FromSeconds(10));
        machine.NoDisk = true;
        server.Do("stop", () => Stop(server!, actor));
        loop.Pass(TimeSpan.FromSeconds(10));
        Lose();
        machine.NoDisk = false;
        Serve();
        loop.Pass(TimeSpan.FromSeconds(20));
        return server!.Registry.Named("steady")!.Situation.Phase;
    }

    /// <summary>An order cannot be written down yet, and the keeper that waits for it is killed.</summary>
    /// <returns>Its runs on record, newest first, once orders can be written down again.</returns>
    public IReadOnlyList<(long Number, bool Lives)> LosesAKeeperThatWasToldNothing()
    {
        Serve();
        loop.Pass(TimeSpan.FromSeconds(1));
        Wrap("steady");
        loop.Pass(TimeSpan.FromSeconds(1));
        var live = server!;
        var actor = live.Registry.Named("steady")!;
        machine.NoNotes = true;
        live.Do("start", () => actor.Ask(new StartAsked(Anna)));
        loop.Pass(TimeSpan.FromMilliseconds(500));
        foreach (var keeper in machine.Keepers.ToList())
            keeper.Die();
        loop.Pass(TimeSpan.FromMilliseconds(500));
        machine.NoNotes = false;
        loop.Pass(TimeSpan.FromSeconds(20));
        return
        [
            .. live
                .Store.Runs(actor.Id, 10)
                .Select(run =>
                    (run.Number.Value, machine.Live(actor.Id.ToString()).Any(one => one.Run == run.Number.Value))
                ),
        ];
    }

    public void Dispose() => server?.Die();

    private void Note(string what)
    {
        History.Add($"{loop.Wall:HH:mm:ss.fff} {what}");
        if (History.Count > 20_000)
            History.RemoveRange(0, 10_000);
    }

    private string Any() => Names[loop.Random.Next(Names.Length)];

    private SimKeeper? AnyKeeper() =>
        machine.Keepers.Count == 0 ? null : machine.Keepers[loop.Random.Next(machine.Keepers.Count)];

    // What happens

    private void Happen()
    {
        switch (loop.Random.Next(27))
        {
            case 0 or 1 when server is not null:
                Note("the server is killed");
                Lose();
                Later(loop.Between(1, 20_000), Serve);
                break;
            case 2 when server is not null:
                Note("the server is killed, and back at once");
                Lose();
                Serve();
                break;
            case 3 when AnyKeeper() is { } keeper:
                Note($"the keeper of {keeper.Place} is killed");
                keeper.Die();
                break;
            case 4 when AnyKeeper() is { } keeper:
                var length = loop.Chance(0.5) ? loop.Between(1, 3000) : loop.Between(3000, 90_000);
                Note($"the keeper of {keeper.Place} is frozen for {length}");
                keeper.Freeze(length);
                break;
            case 5 when machine.Processes.Count > 0:
                var process = machine.Processes[loop.Random.Next(machine.Processes.Count)];
                Note($"run {process.Run} of {process.Label} is killed");
                machine.End(process, 9);
                break;
            case 6:
                Note("server, keepers and some programs are killed");
                Lose();
                foreach (var keeper in machine.Keepers.Where(_ => loop.Chance(0.7)).ToList())
                    keeper.Die();
                foreach (var one in machine.Processes.Where(_ => loop.Chance(0.4)).ToList())
                    machine.End(one, 9);
                Later(loop.Between(1, 5000), Serve);
                break;
            case 7 when loop.Chance(0.3):
                PowerCut();
                break;
            case 8:
                Note("the disk is full");
                machine.NoDisk = true;
                loop.After(loop.Between(10, 20_000), () => machine.NoDisk = false);
                break;
            case 9:
                Note("no order can be written down, or no keeper started");
                (machine.NoNotes, machine.NoKeepers) = (loop.Chance(0.5), loop.Chance(0.5));
                loop.After(loop.Between(10, 10_000), () => (machine.NoNotes, machine.NoKeepers) = (false, false));
                break;
            case 10 or 14:
                var most = loop.Chance(0.5) ? 60 : (int)TimeSpan.FromDays(60).TotalSeconds;
                var by = loop.Random.Next(-most, most);
                loop.Set += TimeSpan.FromSeconds(by);
                // A job that is stopped and started counts its moments from then on: they may be once more.
                if (most > 60 || by < 0)
                    machine.ForgetMoments();
                Note($"the clock is set: {loop.Set}");
                break;
            case 11 when loop.Chance(0.3):
                Note("the run directory is wiped");
                machine.Wipe();
                // What was not on record yet was noted there alone.
                machine.Lost.UnionWith(machine.Launched.Except(OnRecord()));
                toldStopped.Clear();
                if (machine.Refused)
                    machine.ForgetNumbers();
                // A server whose socket is gone ends, and the next one makes it again.
                var mine = server;
                Later(
                    loop.Between(50, 1000),
                    () =>
                    {
                        if (server != mine)
                            return;
                        Lose();
                        Serve();
                    }
                );
                break;
            case 12 when machine.Processes.Count > 0:
                var held = machine.Processes[loop.Random.Next(machine.Processes.Count)];
                Note($"the kernel holds run {held.Run} of {held.Label}");
                held.HeldUntil = loop.Now + loop.Between(100, 40_000).Ticks;
                break;
            case 13 when AnyKeeper() is { } keeper:
                Note($"the keeper of {keeper.Place} repeats itself");
                keeper.Repeats = true;
                loop.After(loop.Between(100, 20_000), () => keeper.Repeats = false);
                break;
            case 15:
                Note("nobody can be told");
                people.Away = true;
                loop.After(loop.Between(1000, 200_000), () => people.Away = false);
                break;
            case 16 when older.Count == 0 || loop.Chance(0.6):
                KeepAStore();
                break;
            case 16:
                PutBackAStore();
                break;
            default:
                Ask();
                break;
        }
    }

    private void Ask()
    {
        if (server is not { Serves: true } live)
            return;
        var name = Any();
        if ((live.Registry.Named(name) ?? live.Registry.Named(Other(name))) is not { } actor)
        {
            if (loop.Chance(0.5))
                Wrap(name);
            return;
        }

        name = actor.Definition.Name;
        machine.ForgetMoments(actor.Id.ToString());
        toldStopped.Clear(); // what is asked for one may begin others
        switch (loop.Random.Next(16))
        {
            case 0 or 1 or 2 or 3:
                Note($"start {name}");
                live.Do($"start {name}", () => actor.Ask(new StartAsked(Anna, loop.Chance(0.1))));
                break;
            case 4 or 5:
                Note($"stop {name}");
                live.Do($"stop {name}", () => Stop(live, actor));
                break;
            case 6:
                Note($"restart {name}");
                live.Do($"restart {name}", () => actor.Ask(new RestartAsked(Anna)));
                break;
            case 7:
                Note($"release, or force {name}");
                live.Do(
                    $"release {name}",
                    () => actor.Ask(loop.Chance(0.5) ? new ReleaseAsked(Anna) : new ForceAsked(Anna))
                );
                break;
            case 13 when actor.Situation.Rhythm is not null:
                Note($"skip, or take, the next moment of {name}, or stop this run");
                live.Do(
                    $"moment of {name}",
                    () =>
                        actor.Ask(
                            loop.Chance(0.5) ? new AdvanceAsked(Anna)
                            : loop.Chance(0.5) ? new SkipAsked(Anna)
                            : new StopAsked(Anna, ThisRun: true)
                        )
                );
                break;
            case 8:
                Note("a drill");
                machine.ForgetMoments();
                live.Do("a drill", () => UnlessBusy(() => live.Rooms.Plans.Begin(Drill(live))));
                break;
            case 9:
                Note($"restart {name} with those that need it");
                live.Do(
                    $"restart {name} with those that need it",
                    () => UnlessBusy(() => live.Rooms.Plans.Begin(Restart(live, name)))
                );
                break;
            case 10 when loop.Chance(0.3):
                Note("wind down, and the machine goes down");
                machine.ForgetMoments();
                live.Do("wind down", () => WindDown(live));
                break;
            case 11 when loop.Chance(0.3):
                Note($"unwrap {name}");
                live.Do($"unwrap {name}", () => Unwrap(live, actor));
                break;
            case 14 or 15 when actor.Definition.Files.Directory is not null:
                Note($"swap {name}");
                live.Do($"swap {name}", () => files.Swap(live, actor, Base(name), stoppedFirst: loop.Chance(0.3)));
                break;
            case 12 when live.Registry.Named(Other(name)) is null:
                Note($"rename {name}");
                live.Do($"rename {name}", () => Rename(live, actor));
                break;
            default:
                Note($"adjust {name}");
                live.Do($"adjust {name}", () => Adjust(live, actor));
                break;
        }
    }

    private async Task Stop(SimServer live, ServiceActor actor)
    {
        var name = actor.Definition.Name;
        var needing = live
            .Registry.Graph.WithDependents([name])
            .Where(other => other != name && live.Registry.Named(other)?.Situation.Run is not null);
        await live.Rooms.Plans.Stop(needing.ToHashSet(StringComparer.Ordinal), Anna);
        await actor.Ask(new StopAsked(Anna));
        var now = await actor.Until(now => now.Phase != Phase.Stopping, CancellationToken.None);
        if (now.Phase == Phase.Stopped && machine.Stops.ContainsKey(actor.RunDirectory))
            toldStopped.Add(actor.Id.ToString());
    }

    private static async Task UnlessBusy(Func<Task> work)
    {
        try
        {
            await work();
        }
        catch (BusyException)
        {
            // Whoever asked is told, and asks again another time.
        }
    }

    private static Plan Drill(SimServer live)
    {
        var boot = live.Registry.All.Where(one => one.Definition.Begin.At == BeginAt.Boot).ToList();
        var names = boot.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        return live.Rooms.Plans.Of(PlanKind.Drill, names, Anna) with
        {
            Begins = [.. names.Order().Select(name => new PlanBegin(name))],
        };
    }

    private static Plan Restart(SimServer live, string name)
    {
        var plan = live.Rooms.Plans.Of(
            PlanKind.Restart,
            live.Registry.Graph.WithDependents([name]).ToHashSet(StringComparer.Ordinal),
            Anna
        );
        return plan with
        {
            Begins = [.. plan.Stops.Reverse().Select(stop => new PlanBegin(stop.Name, Wanted: stop.Name == name))],
        };
    }

    private async Task WindDown(SimServer live)
    {
        var names = live.Registry.All.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        var plan = live.Rooms.Plans.Of(PlanKind.Shutdown, names, Anna);
        await live.Rooms.Plans.Begin(plan with { ForceAt = plan.Began + TimeSpan.FromSeconds(60) });
        loop.After(
            TimeSpan.FromMilliseconds(100),
            () =>
            {
                if (server == live)
                    PowerCut();
            }
        );
    }

    private async Task Unwrap(SimServer live, ServiceActor actor)
    {
        var label = actor.Id.ToString();
        unwrapping.Add(label); // from here on nobody is told that it is kept
        toldRevisions.Remove(label);
        toldNames.Remove(label);
        await actor.Ask(new UnwrapAsked(Anna));
        await actor.Until(_ => false, CancellationToken.None);
        await live.Store.Kept();
        if (live.Store.Failure is null)
            toldGone.Add(label);
    }

    private async Task Adjust(SimServer live, ServiceActor actor)
    {
        var (definition, document) = SimServer.Define(
            Document(live, actor.Definition.Name, loop.Random.Next(1, 1000).ToString(CultureInfo.InvariantCulture))
        );
        await actor.Adjust(definition, document, Anna);
        await live.Store.Kept();
        if (live.Store.Failure is null && !unwrapping.Contains(actor.Id.ToString()))
            toldRevisions[actor.Id.ToString()] = actor.Revision;
    }

    private static string Other(string name) =>
        name.EndsWith(Renamed, StringComparison.Ordinal) ? name[..^Renamed.Length] : name + Renamed;

    private const string Renamed = "-anew";

    private static string Base(string name) => name.Replace(Renamed, "", StringComparison.Ordinal);

    private async Task Rename(SimServer live, ServiceActor actor)
    {
        // As under the lock for definitions: one at a time, and nothing else meanwhile.
        if (renaming == live || !actor.IsAtRest)
            return;
        renaming = live;
        var (now, label) = (Other(actor.Definition.Name), actor.Id.ToString());
        var (definition, document) = SimServer.Define(Document(live, now, "0"));
        toldNames.Remove(label); // until it is over nobody is told which it has
        // What is left of an unwrapped one is moved away first, as people are told to.
        await live.Store.Kept();
        if (live.Store.Failure is null && Directory.Exists(places.StateOf(now)))
            Directory.Delete(places.StateOf(now), recursive: true);
        string? why = "it is in somebody's hand";
        await UnlessBusy(async () =>
            (why, _) = await new Renaming(live.House, live.Registry).Do(actor, definition, document, Anna)
        );
        renaming = null;
        if (why is not null || live.Store.Failure is not null || unwrapping.Contains(label))
            return;
        toldNames[label] = now;
        toldRevisions[label] = actor.Revision;
    }

    private SimServer? renaming;

    /// <summary>What a service keeps by its name.</summary>
    private string Kept(string name, string label) => Path.Combine(places.StateOf(name), label);

    private void Wrap(string name)
    {
        if (server is not { Store.Failure: null } live)
            return;
        Note($"wrap {name}");
        live.Do(
            $"wrap {name}",
            async () =>
            {
                var (definition, document) = SimServer.Define(Document(live, name, "0"));
                if (!live.Registry.TryAdd(definition, document, Anna))
                    return;
                var actor = live.Registry.Named(name)!;
                Directory.CreateDirectory(places.StateOf(name));
                files.Make(Base(name));
                File.Create(Kept(name, actor.Id.ToString())).Dispose();
                machine.Tempers[actor.Id.ToString()] =
                    Enum.TryParse<Temper>(name, ignoreCase: true, out var temper) ? temper
                    : name is "pulls" or "relays" or "counts" ? Temper.Ends
                    : name is "exports" ? Temper.Falls
                    : Temper.Steady;
                machine.Tries[actor.Id.ToString()] = name is "pulls" or "exports" ? 1 : 0;
                await actor.Ask(new Wrapped());
                await live.Store.Kept();
                if (live.Store.Failure is null)
                    toldRevisions[actor.Id.ToString()] = 1;
                else
                    await actor.Ask(new UnwrapAsked(Anna));
            }
        );
    }

    private string Document(SimServer live, string called, string argument)
    {
        var name = Base(called);
        var at = name is "steady" or "needing" or "slow" or "falls" ? "boot" : "request";
        var runs = name switch
        {
            "pulls" or "exports" => """ "every 50 min", "again": "1", "if-running": "queue" """,
            "relays" => """ "every 1 min", "if-running": "take-over" """,
            "counts" => """ "every 1 min", "if-running": "pass" """,
            _ => null,
        };
        if (runs is not null)
            return $$$"""
                {"name": "{{{called}}}", "program": {"kind": "periodic", "path": "/bin/sleep", "arguments": ["{{{argument}}}"]},
                 "identity": {"account": "root"}, "begin": {"at": "boot", "proof": {"up-for": "200ms"}},
                 "rhythm": [{"run": {{{runs}}}, "zone": "UTC", "longest": "1 min"}]}
                """;
        // All three need each other, and are restarted at one moment.
        var rhythm = name is "slow" or "needing" or "steady" or "leaning"
            ? """, "rhythm": [{"restart": "every 6 h from 03:00", "zone": "UTC", "missed": "once"}]"""
            : "";
        var proof = name == "speaks" ? """{"said": "serves"}""" : """{"up-for": "200ms"}""";
        var needs = name switch
        {
            "needing" => """, "needs": [{"service": "§"}]""".Replace("§", Called("slow"), StringComparison.Ordinal),
            "leaning" =>
                $$"""
                , "needs": [{"service": "{{Called("steady")}}", "if-lost": "restart"}, {"service": "{{Called(
                    "needing"
                )}}"}]
                """,
            _ => "",
        };
        var own = name is "steady" or "falls" or "needing" or "stubborn"
            ? $$""", "files": {"directory": "{{files.DirectoryOf(name)}}", "watch-for": "2s"}"""
            : "";
        return $$$"""
            {"name": "{{{called}}}", "program": {"path": "/bin/sleep", "arguments": ["{{{argument}}}"]},
             "identity": {"account": "root"}, "begin": {"at": "{{{at}}}", "proof": {{{proof}}}{{{needs}}}}{{{rhythm}}}{{{own}}}}
            """;

        string Called(string one) => live.Registry.Named(Other(one)) is null ? one : Other(one);
    }

    // Server and machine

    private void Later(TimeSpan length, Action what) => loop.After(length, what);

    private void Serve()
    {
        if (server is not null)
            return;
        Note("a server begins");
        server = new(machine, places, people, Committed);
    }

    private void Lose()
    {
        server?.Die();
        server = null;
    }

    /// <summary>What is on the disk for good: the store as it is now.</summary>
    private void Committed(bool survives)
    {
        if (!survives)
            return;
        machine.Refused = false;
        Files(durable);
    }

    private HashSet<(string Label, long Run)> OnRecord() =>
        [.. InStore("SELECT service, number FROM run", row => row.GetInt64(1))];

    private Dictionary<string, string> Services() =>
        InStore("SELECT id, name FROM service", row => row.GetString(1)).ToDictionary();

    private List<(string Label, T Value)> InStore<T>(string sql, Func<SqliteDataReader, T> value)
    {
        var all = new List<(string, T)>();
        using var store = new SqliteConnection($"Data Source={places.Database};Pooling=False");
        store.Open();
        using var ask = store.CreateCommand();
        ask.CommandText = sql;
        using var rows = ask.ExecuteReader();
        while (rows.Read())
            all.Add((new ServiceId(rows.GetInt64(0)).ToString(), value(rows)));
        return all;
    }

    private void PowerCut()
    {
        Note("the power is cut");
        Lose();
        machine.Reboot();
        if (loop.Chance(0.7))
        {
            foreach (var end in (string[])["", "-wal", "-shm"])
                File.Delete(places.Database + end);
            foreach (var (bytes, end) in durable)
                File.WriteAllBytes(places.Database + end, bytes);
        }

        machine.Lost.UnionWith(machine.Launched);
        toldStopped.Clear();
        if (machine.Refused)
            machine.ForgetNumbers();
        Later(loop.Between(100, 5000), Serve);
    }

    /// <summary>Somebody keeps a copy of the store, while nothing is under way with services or their files.</summary>
    private void KeepAStore()
    {
        if (
            server is not { Serves: true, Store: { Failure: null } store }
            || store.Plans().Count > 0
            || store.Swaps().Count > 0
            || store.Renamings().Count > 0
            || renaming == server
        )
            return;
        Note("a copy of the store is kept");
        Files(older);
    }

    /// <summary>Somebody puts the kept copy back. What it does not know of services is found by what else there is of them.</summary>
    private void PutBackAStore()
    {
        Note("the kept copy of the store is put back");
        Lose();
        foreach (var end in (string[])["", "-wal", "-shm"])
            File.Delete(places.Database + end);
        foreach (var (bytes, end) in older)
            File.WriteAllBytes(places.Database + end, bytes);
        durable.Clear();
        durable.AddRange(older);
        machine.Lost.UnionWith(machine.Launched.Except(OnRecord()));
        machine.ForgetMoments();
        var inStore = Services();
        var copies = Directory
            .EnumerateFiles(places.Definitions, "*.yaml")
            .ToDictionary(file => Path.GetFileNameWithoutExtension(file), file => File.ReadLines(file).First());
        // Of numbers that were left out it was on record that they were.
        foreach (
            var head in copies.Values.Select(head => head.Split(["service ", ", revision ", ", run ", "."], 5, default))
        )
            machine.Lost.UnionWith(
                Enumerable
                    .Range(1, int.Parse(head[3], CultureInfo.InvariantCulture))
                    .Select(run => ($"S{head[1]}", (long)run))
            );
        foreach (var (label, _) in inStore.Where(one => !copies.Values.Any(head => IsOf(head, one.Key))))
            machine.ForgetNumbers(label); // unwrapped since: nobody knows any more that there were later runs
        (List<string> kept, List<string> unknown) = ([], []);
        foreach (var label in toldRevisions.Keys.Where(label => !inStore.ContainsKey(label)))
            (copies.Any(copy => IsOf(copy.Value, label) && !inStore.ContainsValue(copy.Key)) ? kept : unknown).Add(
                label
            );
        toldRevisions.Clear();
        toldNames.Clear();
        toldGone.Clear();
        unwrapping.Clear();
        toldStopped.Clear();
        foreach (var label in kept)
            toldRevisions[label] = 1;
        // Whoever put it back brings what lies under later names to the names of before, and ends what cannot be taken up.
        foreach (var (label, name) in inStore)
        {
            Directory.CreateDirectory(places.StateOf(name));
            File.Create(Kept(name, label)).Dispose();
        }

        foreach (
            var process in machine
                .Processes.Where(one => !inStore.ContainsKey(one.Label) && !kept.Contains(one.Label))
                .ToList()
        )
            machine.End(process, 9);
        Later(loop.Between(1, 5000), Serve);

        static bool IsOf(string head, string label) =>
            head.StartsWith($"# Calm Sentry: service {label[1..]},", StringComparison.Ordinal);
    }

    private readonly List<(byte[] Bytes, string End)> older = [];

    private void Files(List<(byte[] Bytes, string End)> into)
    {
        into.Clear();
        foreach (var end in (string[])["", "-wal"])
            if (File.Exists(places.Database + end))
                into.Add((File.ReadAllBytes(places.Database + end), end));
    }

    // What must hold

    /// <summary>Nothing more happens, and all comes to rest.</summary>
    private void Quiet(TimeSpan length) => loop.Pass(length);

    private void Rest()
    {
        Note("all is left in peace");
        (machine.NoDisk, machine.NoKeepers, machine.NoNotes, people.Away) = (false, false, false, false);
        Serve();
        Quiet(TimeSpan.FromMinutes(20));
        var waiting = server is { Serves: true }
            ? server.Registry.All.Where(Waits).ToDictionary(one => one.Id, LastRun)
            : [];
        Quiet(TimeSpan.FromMinutes(10));
        foreach (var failed in server?.Failed ?? [])
            machine.Broken($"an errand failed: {failed}");
        if (loop.Escaped is { } escaped)
            machine.Broken($"something ran on a thread of its own: {escaped}");
        if (server is not { Serves: true } live)
        {
            machine.Broken("no server serves after half an hour of peace");
            return;
        }

        // Its new files are judged once what it needs is there.
        foreach (
            var errand in live.UnderWay.Where(errand =>
                live.Registry.Named(errand.Replace("swap ", "", StringComparison.Ordinal))?.Situation
                    is not { Phase: Phase.Waiting, Awaited: not null }
            )
        )
            machine.Broken($"not over after half an hour of peace: {errand}");
        foreach (var (id, plan, _) in live.Store.Plans())
            machine.Broken($"plan {id} ({plan?.Kind}) is not over after half an hour of peace");
        foreach (var (service, swap, _) in live.Store.Swaps())
        {
            var now = live.Registry.WithId(service)?.Situation;
            // Its new files are judged once what it needs is there.
            if (now is not { Phase: Phase.Waiting, Awaited: not null })
                machine.Broken(
                    $"a swap of {service} is not over after half an hour of peace: {swap?.Step}, {now?.Phase}"
                );
        }

        foreach (var actor in live.Registry.All)
            Look(live, actor);
        LookAtWhatWasTold(live);
        // No pause, proof or step takes so long.
        foreach (var actor in live.Registry.All.Where(Waits))
            if (waiting.TryGetValue(actor.Id, out var last) && last == LastRun(actor))
                machine.Broken(
                    $"{actor.Definition.Name} ({actor.Id}) has been {actor.Situation.Phase} with run {actor.Situation.LastRun} for "
                        + $"ten minutes, until {actor.Situation.WakeAt:u}: {LastWords(live, actor)}; "
                        + string.Join(" / ", machine.Keepers.Where(keeper => keeper.Place == actor.RunDirectory))
                );
        foreach (var process in machine.Processes)
            if (live.Registry.All.All(actor => actor.Id.ToString() != process.Label))
                machine.Broken($"run {process.Run} of {process.Label} lives, and there is no such service");
        foreach (var (label, revision) in toldRevisions)
            if (live.Registry.All.FirstOrDefault(one => one.Id.ToString() == label) is not { } actor)
                machine.Broken($"{label} is gone, and it was told to be kept");
            else if (actor.Revision < revision)
                machine.Broken($"{actor.Definition.Name} is not at revision {revision}, which was told to be kept");
            else if (toldNames.GetValueOrDefault(label) is { } name && live.Registry.Named(name) != actor)
                machine.Broken($"{label} is called {actor.Definition.Name}, and was told to be called {name}");
        if (live.Store.Prove().Why is { } broken)
            machine.Broken($"the logbook is not as it was written: {broken}");
        if (live.Store.Renamings().Count > 0)
            machine.Broken("a renaming is not over after half an hour of peace");
        foreach (var label in toldStopped)
            if (live.Registry.All.FirstOrDefault(one => one.Id.ToString() == label) is { Situation.Lives: true } actor)
                machine.Broken($"{actor.Definition.Name} was told to be stopped, and is {actor.Situation.Phase}");
        foreach (var label in toldGone)
            if (live.Registry.All.Any(actor => actor.Id.ToString() == label))
                machine.Broken($"{label} is there again, and it was told to be unwrapped");
        foreach (var entry in live.Store.Logbook(2000))
            if (
                entry.Entry is TroubleEntry { Said: var seen }
                && seen.StartsWith("The sentry failed", StringComparison.Ordinal)
            )
                machine.Broken($"the logbook says of {entry.Service}: {seen}");
    }

    private void LookAtWhatWasTold(SimServer live)
    {
        foreach (var message in live.Store.WaitingMessages())
            machine.Broken(
                $"message {message.Number} ({message.Message?.Subject}) still waits after half an hour of peace"
            );
        foreach (var message in live.Store.Messages(100_000))
            if (message.State == MessageState.Delivered && !people.Arrived.Contains(message.Id))
                machine.Broken($"message {message.Number} is said to be delivered, and did not arrive");
        foreach (
            var alert in live.Teller.Known.Where(alert =>
                alert is { OverAt: null, PartOf: null, Taken: null, Lasts: true, Urgency: Urgency.Urgent }
            )
        )
            if (
                alert.Heard.FirstOrDefault() is not { } heard
                || (heard.Known < alert.Count && heard.Times.Length < AlertLife.MostGrowing)
            )
                machine.Broken($"alert {alert.Number} of {alert.Cause} goes on, and not all of it was told");
        var told = live
            .Teller.Known.Where(alert => alert.OverAt is null && alert.PartOf is null)
            .SelectMany(alert => alert.Affected)
            .Select(one => one.Service)
            .ToHashSet();
        foreach (var actor in live.Registry.All.Where(one => one.Situation.Phase == Phase.Held))
            if (!told.Contains(actor.Definition.Name))
                machine.Broken(
                    $"{actor.Definition.Name} is on hold, and no alert that goes on says so: {LastWords(live, actor)}"
                );
    }

    private static string LastWords(SimServer live, ServiceActor actor) =>
        string.Join(
            " / ",
            live.Store.Logbook(5000)
                .Where(entry => entry.Service == actor.Definition.Name)
                .TakeLast(10)
                .Select(entry => $"{entry.At:HH:mm:ss} {entry.Entry.Text}")
        );

    private static bool Waits(ServiceActor actor) =>
        actor.Situation is { Phase: Phase.Starting } or { Phase: Phase.Waiting, Awaited: null };

    private static RunNumber LastRun(ServiceActor actor) => actor.Situation.LastRun;

    private void Look(SimServer live, ServiceActor actor)
    {
        var (name, label, now) = (actor.Definition.Name, actor.Id.ToString(), actor.Situation);
        var processes = machine.Live(label).ToList();
        if (!actor.Known)
            machine.Broken($"it is not known what became of {name}");
        if (!File.Exists(Kept(name, label)) && live.Store.IdOf(name) == actor.Id)
            machine.Broken($"what {name} ({label}) keeps does not lie under its name");
        if (
            actor.Definition.Begin.NeededServices.FirstOrDefault(one =>
                live.Registry.Named(one) is null && live.Registry.Named(Other(one)) is not null
            ) is
            { } by
        )
            machine.Broken($"{name} needs {by}, which is called {Other(by)} now");
        if (actor.Definition.Files.Directory is not null && files.Mixed(Base(name)) is { } mixed)
            machine.Broken($"{name}: {mixed}");
        if (now.Phase is Phase.Stopping && loop.Wall - now.Since > TimeSpan.FromMinutes(15))
            machine.Broken($"{name} has been stopping for half an hour");
        if (now.Run is { } run)
        {
            if (processes.Any(process => process.Run != run.Number.Value))
                machine.Broken($"{name}: a run that is not run {run.Number} lives");
            if (processes.Count == 0 && now.Phase == Phase.Running)
                machine.Broken($"{name} is said to be running, and nothing of it lives");
            if (processes.Count > 0 && actor.KeeperPid == 0)
                machine.Broken($"{name} runs, and its keeper is not known");
        }
        else if (processes.Count > 0)
        {
            machine.Broken($"{name} is {now.Phase}, and run {processes[0].Run} of it lives");
        }

        // Whoever stopped what ran brings it back, or says so.
        if (
            now is { Phase: Phase.Stopped, Asked: { By.Kind: PrincipalKind.Swap or PrincipalKind.Drill } by2 }
            // One that begins on request ran again, and was lost with its machine.
            && (by2.What == AskedFor.Stop || actor.Definition.BeginsWithMachine)
            && !live.Store.Logbook(actor.Id, 100).Any(entry => entry.Entry is SwapDownEntry)
        )
            machine.Broken($"{name} was stopped by {by2.By}, and is not brought back: {LastWords(live, actor)}");
        if (now.Rhythm?.LookAt is { } due && loop.Wall - due > TimeSpan.FromMinutes(1))
            machine.Broken($"{name} has not looked at its moment of {due:u}");
        if (actor.Definition.IsJob && now.Phase == Phase.Resting && now.Rhythm?.Next is null)
            machine.Broken($"{name} rests for good");
        foreach (var (place, number) in machine.Notes.Keys.Concat(machine.Outcomes.Keys))
            if (place == actor.RunDirectory && number != now.Run?.Number.Value)
                machine.Broken($"{name}: something is left of run {number}, which is over");
        foreach (var group in machine.Groups.Where(group => group.Label == label))
            if (group.Run != now.Run?.Number.Value)
                machine.Broken($"{name}: the group of run {group.Run}, which is over, is left");
        var known = live.Store.Runs(actor.Id, 100_000).ToDictionary(one => one.Number.Value);
        // A number that was given is on record, unless the logbook says that numbers were left out.
        var passedOver = live
            .Store.Logbook(actor.Id, 100_000)
            .Select(entry => entry.Entry)
            .OfType<NumbersPassedOverEntry>()
            .Select(entry => entry.UpTo.Value)
            .ToList();
        for (var number = known.Keys.DefaultIfEmpty().Min() + 1; number < known.Keys.DefaultIfEmpty().Max(); number++)
            if (
                !known.ContainsKey(number)
                && !passedOver.Any(last =>
                    last >= number
                    && (machine.Lost.Contains((label, number)) || !machine.Launched.Contains((label, number)))
                )
            )
                machine.Broken(
                    $"{name} ({label}) has no run {number}, between {string.Join(", ", known.Keys.Order())}; left out up to "
                        + string.Join(", ", passedOver)
                );
        foreach (var (_, number) in machine.Launched.Where(one => one.Label == label))
        {
            if (machine.Lost.Contains((label, number)) || number == now.Run?.Number.Value)
                continue;
            if (!known.TryGetValue(number, out var one))
                machine.Broken($"{name}: run {number} is not on record");
            else if (one.Outcome is null)
                machine.Broken($"{name} ({label}): it is not on record how run {number} ended");
        }
    }
}
