using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Troubles;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>The simulated machine, as one server meets it.</summary>
internal sealed class SimRunHost(SimMachine machine, SimServerTime time) : IRunHost
{
    private readonly List<SimLink> links = [];

    public string BootId => $"boot {machine.Boots}";

    public string? BeginsNothing => null;

    public bool IsClockSet => true;

    public bool IsZoneAnother() => false;

    public (long All, long Idle) ProcessorTime() => (machine.Loop.Now, machine.Loop.Now / 2);

    public Account? AccountOf(string name) => new(name, 0, 0, "/root", "/bin/sh", [0]);

    public Message Order(IRunning service, Account account, RunNumber run, bool switchOff)
    {
        if (service.Definition.IsJob && service.Situation.Rhythm?.Slot is { } moment)
            machine.Moments[(service.Id.ToString(), run.Value)] = moment;
        return new Message(KeeperWord.Launch).With(LaunchField.Run, run).With(LaunchField.Place, service.RunDirectory);
    }

    public void MakePlaces(IRunning service, Account account) { }

    public void BringOutput(IRunning service) { }

    public IKeeper Start(string runDirectory)
    {
        if (machine.NoKeepers)
            throw new OwnTroubleException("this host starts no process at the moment");
        var pid = 60_000_000 + machine.Loop.Random.Next(1_000_000);
        var link = new SimLink(machine, time, pid);
        link.Keeper = new SimKeeper(machine, link, pid);
        links.Add(link);
        return link;
    }

    public void ReserveSoon() { }

    public void Expect(int launches) { }

    public DetachedSight Detached(Definition definition, int keeper) => default;

    public long? OutputLength(string service) => 0;

    public void OpenSay(IRunning service, Account account) { }

    public void RunOver(IRunning service) { }

    public Task BeginDisplay(IRunning service, Account account, RunNumber run, Action<string> fell) =>
        Task.CompletedTask;

    public Task<bool> FindDisplay(
        IRunning service,
        ProgramPart program,
        Account account,
        RunNumber run,
        Action<string> fell
    ) => Task.FromResult(true);

    public Task<string?> HowDisplayEnded(IRunning service, ProgramPart program, Account account, RunNumber run) =>
        Task.FromResult<string?>(null);

    public Task EndDisplay(IRunning service, Account? account) => Task.CompletedTask;

    public void Forget(IRunning service)
    {
        foreach (var note in machine.Notes.Keys.Where(note => note.Place == service.RunDirectory).ToList())
            machine.Notes.Remove(note);
        foreach (var note in machine.Outcomes.Keys.Where(note => note.Place == service.RunDirectory).ToList())
            machine.Outcomes.Remove(note);
    }

    public Task<IKeeper?> Find(string runDirectory, Func<IEnumerable<int>> processes)
    {
        var keeper = machine.Keepers.FirstOrDefault(one =>
            one.Place == runDirectory
            && (!one.Wiped || (!one.Frozen && one.Main is { } main && processes().Contains(main.Pid)))
        );
        if (keeper is null)
            return Task.FromResult<IKeeper?>(null);
        var link = new SimLink(machine, time, 0) { Keeper = keeper };
        links.Add(link);
        keeper.Wiped = false;
        keeper.Accept(link);
        return Task.FromResult<IKeeper?>(link);
    }

    public bool Remembers => machine.Remembers;

    public void Remember() => machine.Remembers = true;

    public void Note(string runDirectory, RunNumber run, RunNote note)
    {
        if (machine.NoNotes)
            throw new OwnTroubleException("its order cannot be written down: no space left on device");
        machine.Notes[(runDirectory, run.Value)] = note;
    }

    public void NoteStop(string runDirectory, string by)
    {
        if (!machine.NoNotes)
            machine.Stops[runDirectory] = by;
    }

    public string? StopNoted(string runDirectory) => machine.Stops.GetValueOrDefault(runDirectory);

    public void ForgetStop(string runDirectory) => machine.Stops.Remove(runDirectory);

    public RunNote? Noted(string runDirectory, RunNumber run) =>
        machine.Notes.TryGetValue((runDirectory, run.Value), out var note) ? note : null;

    public ILookup<string, MarkedProcess> Marked() =>
        machine
            .Processes.Where(process => process.Lives)
            .ToLookup(process => process.Label, process => new MarkedProcess(process.Run, default, process.Pid));

    public IReadOnlyList<string> Labels() =>
        [
            .. machine
                .Groups.Select(group => group.Label)
                .Concat(machine.Notes.Keys.Concat(machine.Outcomes.Keys).Select(note => Path.GetFileName(note.Place)))
                .Distinct(),
        ];

    public IReadOnlyList<RunNumber> Left(string label, string runDirectory, IEnumerable<long> marked) =>
        [
            .. machine
                .Notes.Keys.Concat(machine.Outcomes.Keys)
                .Where(note => note.Place == runDirectory)
                .Select(note => note.Run)
                .Concat(machine.Groups.Where(group => group.Label == label).Select(group => group.Run))
                .Concat(marked)
                .Distinct()
                .Order()
                .Select(run => new RunNumber(run)),
        ];

    public (KeeperWord Word, byte[] Body)? Outcome(string runDirectory, RunNumber run) =>
        machine.Outcomes.TryGetValue((runDirectory, run.Value), out var outcome) ? outcome : null;

    public void Discard(RunSite site, bool over)
    {
        machine.Outcomes.Remove((site.Place, site.Run.Value));
        if (!over)
            return;
        machine.Notes.Remove((site.Place, site.Run.Value));
        if (!Processes(site).Any())
            machine.Groups.Remove((site.Name, site.Run.Value));
    }

    public IEnumerable<int> Processes(RunSite site) =>
        machine.Live(site.Name).Where(process => process.Run == site.Run.Value).Select(process => process.Pid).ToList();

    public IReadOnlyList<int> Tree(IRunning service) =>
        [.. machine.Live(service.Id.ToString()).Select(process => process.Pid)];

    public async Task<(int Ended, string? Left)> End(RunSite site, IReadOnlyCollection<uint> accounts)
    {
        var there = Processes(site).Count();
        var began = machine.Loop.Now;
        while (machine.Live(site.Name).Where(process => process.Run == site.Run.Value).ToList() is { Count: > 0 } left)
        {
            left.ForEach(process => machine.Signal(process, 9));
            if (machine.Loop.Now - began > TimeSpan.TicksPerSecond * 10)
                return (there, "what the kernel holds");
            await Task.Delay(TimeSpan.FromMilliseconds(5), time.Clock);
        }

        machine.Groups.Remove((site.Name, site.Run.Value));
        return (there, null);
    }

    /// <summary>The server is gone, and with it its ends of all connections.</summary>
    public void Die()
    {
        foreach (var link in links)
            link.Keeper?.LostServer(link);
    }
}
