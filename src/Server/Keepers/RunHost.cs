using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Output;
using CalmSentry.Server.Services;

namespace CalmSentry.Server.Keepers;

/// <summary>This host.</summary>
internal sealed class RunHost(House house) : IRunHost
{
    public string BootId => Machine.BootId;

    public string? BeginsNothing => Machine.BeginsNothing(house.Places.BeginNothing);

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

    public Message Order(ServiceActor service, Account account, RunNumber run, bool switchOff) =>
        house.Permits.Permitted(account.Name)
            ? LaunchOrder.Of(service.Definition, service.Site(run), account, house, switchOff)
            : throw new IOException(
                $"the account {account.Name} is not permitted to run services; 'calm account permit "
                    + $"{account.Name}' permits it"
            );

    public void MakePlaces(ServiceActor service, Account account)
    {
        var definition = service.Definition;
        EarlierPlaces.Forget(house.Places, house.Ceilings, definition.Name);
        OwnDirectory.Make(service.RunDirectory);
        Directory.CreateDirectory(house.Places.OutputDirectoryOf(definition.Name));
        Ownership.MakeDirectory(house.Places.StateOf(definition.Name), account);
    }

    public IKeeper Start(string runDirectory) => KeeperLink.Start(house.Keepers, runDirectory);

    public void ReserveSoon() => house.Keepers.ReserveSoon();

    public DetachedSight Detached(Definition definition, int keeper) =>
        DetachedMain.Of(definition.Program.PidFile, ProcessFacts.Parent, keeper);

    public long? OutputLength(string service)
    {
        try
        {
            return Segments.End(house.Places.OutputDirectoryOf(service));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or InvalidDataException)
        {
            return null;
        }
    }

    public void OpenSay(ServiceActor service, Account account) => house.Says.Open(service, account);

    public void RunOver(ServiceActor service)
    {
        house.Says.Close(service.Id);
        house.SecretFiles.Remove(service.Label);
    }

    public void Forget(ServiceActor service)
    {
        var name = service.Definition.Name;
        house.Copies.Remove(name);
        house.Secrets.Forget(name);
        RunOver(service);
        house.Ceilings.Forget(service.Id.ToString());
        EarlierPlaces.Forget(house.Places, house.Ceilings, name);
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

    private string Remembered => Path.Combine(house.Places.RunDirectory, "taken-up");

    public async Task<IKeeper?> Find(string runDirectory, Func<IEnumerable<int>> processes) =>
        KeeperLink.Find(runDirectory, house.Keepers.Program)
        ?? await KeeperLink.FindByProcesses(runDirectory, house.Keepers.Program, processes()).ConfigureAwait(false);

    public void Note(string runDirectory, LiveRun run, long outputFrom) =>
        RunNotes.Write(runDirectory, run, outputFrom);

    public (DateTimeOffset Began, long OutputFrom)? Noted(string runDirectory, RunNumber run) =>
        RunNotes.Read(runDirectory, run);

    public ILookup<string, (long Run, uint User)> Marked() => RunNotes.Marked(house.Places);

    public IReadOnlyList<RunNumber> Left(string label, string runDirectory, IEnumerable<long> marked) =>
        [.. RunNotes.Left(label, runDirectory, house.Groups, marked)];

    public (KeeperWord Word, byte[] Body)? Outcome(string runDirectory, RunNumber run) =>
        Remains.Outcome(runDirectory, run);

    public void Discard(RunSite site, bool over) => Remains.Discard(site, house.Groups, over);

    public IEnumerable<int> Processes(RunSite site) =>
        site.Group(house.Groups) is { } group ? ControlGroups.Processes(group) : [];

    public Task<(int Ended, bool Stuck)> End(RunSite site) => Remains.End(site, house.Places, house.Groups);

    public IReadOnlyList<int> Tree(ServiceActor service)
    {
        if (service.Situation.Run is not { } run)
            return [];
        // Where no group was to be had for this run, it is what is below its keeper.
        if (Processes(service.Site(run.Number)).ToList() is { Count: > 0 } pids)
            return pids;
        return service.KeeperPid == 0 ? [] : [.. ProcessFacts.Tree(service.KeeperPid).Skip(1)];
    }
}
