using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Output;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Keepers;

/// <summary>This host.</summary>
internal sealed class RunHost(RunTools tools) : IRunHost
{
    public string BootId => Machine.BootId;

    public string? BeginsNothing => Machine.BeginsNothing(tools.Places.BeginNothing);

    public bool IsClockSet => Machine.IsClockSet || Machine.ClockRunsFor > ClockPatience;

    private (string? Target, DateTime Written) zone = ZoneFile();

    public bool IsZoneAnother()
    {
        var now = ZoneFile();
        if (now == zone)
            return false;
        zone = now;
        TimeZoneInfo.ClearCachedData();
        return true;
    }

    /// <summary>Where the host keeps its time zone (localtime(5)).</summary>
    private static (string? Target, DateTime Written) ZoneFile()
    {
        const string path = "/etc/localtime";
        try
        {
            return (new FileInfo(path).LinkTarget, File.GetLastWriteTimeUtc(path));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return default;
        }
    }

    /// <summary>How long after the machine came up its clock is waited for.</summary>
    private static readonly TimeSpan ClockPatience = TimeSpan.FromMinutes(5);

    public (long All, long Idle) ProcessorTime() => Machine.ProcessorTime();

    public Account? AccountOf(string name) => Account.Named(name);

    public Message Order(IRunning service, Account account, RunNumber run, bool switchOff) =>
        tools.Permits.Permitted(account.Name)
            ? ForItsMoment(LaunchOrder.Of(service.Definition, service.Site(run), account, tools, switchOff), service)
            : throw new IOException(
                $"the account {account.Name} is not permitted to run services; 'calm account permit "
                    + $"{account.Name}' permits it"
            );

    /// <summary>A run of a job is told which moment it is for: that may be some while ago.</summary>
    private static Message ForItsMoment(Message order, IRunning service) =>
        service is { Definition.IsJob: true, Situation.Rhythm.Slot: { } moment }
            ? order.With(LaunchField.Environment, $"CALM_MOMENT={moment.UtcDateTime:yyyy-MM-dd'T'HH:mm:ss'Z'}")
            : order;

    public Task BeginDisplay(IRunning service, Account account, RunNumber run, Action<string> fell) =>
        tools.Displays.Begin(
            service.Site(run).Name,
            service.RunDirectory,
            run,
            service.Definition.Program,
            account,
            fell
        );

    public Task<bool> FindDisplay(
        IRunning service,
        ProgramPart program,
        Account account,
        RunNumber run,
        Action<string> fell
    ) => tools.Displays.Find(service.Site(run).Name, service.RunDirectory, run, program, account, fell);

    public async Task<string?> HowDisplayEnded(IRunning service, ProgramPart program, Account account, RunNumber run) =>
        // Where the program ended while no server was there, its display has not been looked for yet.
        !tools.Displays.Knows(service.Site(run).Name) && await FindDisplay(service, program, account, run, _ => { })
            ? null
            : await tools.Displays.HowEnded(service.Site(run).Name);

    public Task EndDisplay(IRunning service, Account? account) =>
        tools.Displays.End(service.Id.ToString(), service.RunDirectory, account);

    public void MakePlaces(IRunning service, Account account)
    {
        var definition = service.Definition;
        EarlierPlaces.Forget(tools.Places, tools.Ceilings, definition.Name);
        OwnDirectory.Make(service.RunDirectory);
        Ownership.MakeDirectory(tools.Places.StateOf(definition.Name), account);
    }

    public void BringOutput(IRunning service) =>
        new OutputPlace(tools.Places, service.Definition.Name).Bring(service.Definition.Output.Directory);

    public IKeeper Start(string runDirectory) => KeeperLink.Start(tools.Keepers, runDirectory);

    public void ReserveSoon() => tools.Keepers.ReserveSoon();

    public void Expect(int launches) => tools.Keepers.Expect(launches);

    public DetachedSight Detached(Definition definition, int keeper) =>
        DetachedMain.Of(definition.Program.PidFile, ProcessFacts.Parent, keeper);

    public long? OutputLength(string service)
    {
        try
        {
            return Segments.End(tools.Places.OutputDirectoryOf(service));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            return null;
        }
    }

    public void OpenSay(IRunning service, Account account) => tools.Says.Open(service, account);

    public void RunOver(IRunning service)
    {
        tools.Says.Close(service.Id);
        tools.SecretFiles.Remove(service.Label);
    }

    public void Forget(IRunning service)
    {
        var name = service.Definition.Name;
        tools.Copies.Remove(name);
        tools.Secrets.Forget(name);
        RunOver(service);
        tools.Ceilings.Forget(service.Id.ToString());
        tools.Pictures.Forget(service.Id.ToString());
        EarlierPlaces.Forget(tools.Places, tools.Ceilings, name);
        if (Directory.Exists(service.RunDirectory))
            Directory.Delete(service.RunDirectory, recursive: true);
    }

    public bool Remembers => File.Exists(Remembered);

    public void Remember()
    {
        try
        {
            File.WriteAllText(Remembered, "");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Then some numbers are left out that need not have been.
        }
    }

    private string Remembered => Path.Combine(tools.Places.RunDirectory, "taken-up");

    public async Task<IKeeper?> Find(string runDirectory, Func<IEnumerable<int>> processes) =>
        await KeeperLink.Find(runDirectory, tools.Keepers.Program)
        ?? await KeeperLink.FindByProcesses(runDirectory, tools.Keepers.Program, processes());

    public void Note(string runDirectory, RunNumber run, RunNote note) => RunNotes.Write(runDirectory, run, note);

    public void NoteStop(string runDirectory, string by) => StopNotes.Write(runDirectory, by);

    public string? StopNoted(string runDirectory) => StopNotes.Read(runDirectory);

    public void ForgetStop(string runDirectory) => StopNotes.Discard(runDirectory);

    public RunNote? Noted(string runDirectory, RunNumber run) => RunNotes.Read(runDirectory, run);

    public ILookup<string, MarkedProcess> Marked() => RunNotes.Marked(tools.Places);

    public IReadOnlyList<string> Labels() => RunNotes.Labels(tools.Places, tools.Groups);

    public IReadOnlyList<RunNumber> Left(string label, string runDirectory, IEnumerable<long> marked) =>
        [.. RunNotes.Left(label, runDirectory, tools.Groups, marked)];

    public (KeeperWord Word, byte[] Body)? Outcome(string runDirectory, RunNumber run) =>
        Remains.Outcome(runDirectory, run);

    public void Discard(RunSite site, bool over) => Remains.Discard(site, tools.Groups, over);

    public IEnumerable<int> Processes(RunSite site) =>
        site.Group(tools.Groups) is { } group ? ControlGroups.Processes(group) : [];

    public Task<(int Ended, string? Left)> End(RunSite site, IReadOnlyCollection<uint> accounts) =>
        Remains.End(site, tools.Places, tools.Groups, accounts);

    public IReadOnlyList<int> Tree(IRunning service)
    {
        if (service.Situation.Run is not { } run)
            return [];
        // Where no group was to be had for this run, it is what is below its keeper.
        if (Processes(service.Site(run.Number)).ToList() is { Count: > 0 } pids)
            return pids;
        return service.KeeperPid == 0 ? [] : [.. ProcessFacts.Tree(service.KeeperPid).Skip(1)];
    }
}
