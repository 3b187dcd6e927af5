using CalmSentry.Contract;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Accounts;
using CalmSentry.Server.Begin;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Events;
using CalmSentry.Server.Logbook;
using CalmSentry.Server.Secrets;
using CalmSentry.Store;

namespace CalmSentry.Server.Services;

/// <summary>What every service needs of the sentry it lives in.</summary>
internal sealed class House(Places places, SentryStore store, string keeper, TimeProvider clock)
{
    public Places Places { get; } = places;

    public SentryStore Store { get; } = store;

    public EventHub Events { get; } = new();

    public Record Logbook => logbook ??= new(Store, Events, Clock);

    public StartGate Gate { get; } = new();

    /// <summary>How long winding down all services may take before the machine goes down.</summary>
    public TimeSpan ShutdownWithin { get; init; } = new Settings().ShutdownWithin;

    /// <summary>When the server before this one was last seen alive, if that is on record.</summary>
    public DateTimeOffset? LastSeen { get; set; }

    /// <summary>While a drill is under way, when it had the machine come up.</summary>
    public DateTimeOffset? DrillBegan { get; set; }

    public ControlGroups Groups { get; } = ControlGroups.Find(places.RunDirectory);

    public Ceilings Ceilings => ceilings ??= Ceilings.Find(Groups);

    public KeeperStarter Keepers { get; } = new(keeper, places.RunDirectory);

    public SayDoors Says => says ??= new(Places, Groups.Mark);

    public AsAccount AsAccount => asAccount ??= new(keeper, Groups.Directory);

    public SecretBox Secrets { get; } = new(store, places);

    public SecretFiles SecretFiles { get; } = new(places);

    public DefinitionCopies Copies => copies ??= new(Places, Logbook);

    public StateRooms States { get; } = new(places);

    public Permits Permits { get; } = new(store);

    public TimeProvider Clock { get; } = clock;

    public DateTimeOffset Now => Clock.GetUtcNow();

    /// <summary>Now, by both clocks.</summary>
    public ClockStamp Stamp => new(Now, (long)Clock.GetElapsedTime(0, Clock.GetTimestamp()).TotalMilliseconds);

    private Ceilings? ceilings;
    private AsAccount? asAccount;
    private DefinitionCopies? copies;
    private SayDoors? says;
    private Record? logbook;

    /// <summary>Removes what the sentry made on the host and nothing uses any more.</summary>
    public void CleanUp()
    {
        Groups.Remove();
        Ceilings.Remove();
        SecretFiles.RemoveAll();
    }
}
