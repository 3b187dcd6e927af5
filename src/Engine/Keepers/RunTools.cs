using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Accounts;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Secrets;
using CalmSentry.Engine.Windows;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Store;

namespace CalmSentry.Engine.Keepers;

/// <summary>A service as its keepers meet it.</summary>
internal interface IRunning : ISubject
{
    Definition Definition { get; }

    Situation Situation { get; }

    /// <summary>Names its runs on this host, whatever it is called.</summary>
    string Label { get; }

    /// <summary>The directory of its keeper.</summary>
    string RunDirectory { get; }

    /// <summary>0: it has none.</summary>
    int KeeperPid { get; }

    RunSite Site(RunNumber run);
}

/// <summary>What runs are made of on this host.</summary>
internal sealed class RunTools(Places places, SentryStore store, string keeper, Func<Record> logbook)
{
    private readonly Lazy<SecretBox> secrets = new(() => new(store, places));
    private readonly Lazy<ControlGroups> groups = new(() => ControlGroups.Find(places.RunDirectory));
    private Ceilings? ceilings;
    private AsAccount? asAccount;
    private DefinitionCopies? copies;
    private Displays? displays;

    public Places Places => places;

    public SentryStore Store => store;

    public ControlGroups Groups => groups.Value;

    public Ceilings Ceilings => LazyInitializer.EnsureInitialized(ref ceilings, () => Ceilings.Find(Groups));

    public KeeperStarter Keepers { get; } = new(keeper, places.RunDirectory);

    public AsAccount AsAccount => LazyInitializer.EnsureInitialized(ref asAccount, () => new(keeper, Groups.Directory));

    public SecretBox Secrets => secrets.Value;

    public Displays Displays => LazyInitializer.EnsureInitialized(ref displays, () => new(this, Task.Delay));

    /// <summary>What displays showed last.</summary>
    public Pictures Pictures { get; } = new(places);

    public SecretFiles SecretFiles { get; } = new(places);

    public DefinitionCopies Copies => LazyInitializer.EnsureInitialized(ref copies, () => new(places, logbook()));

    public Permits Permits { get; } = new(store);

    public StateRooms States { get; } = new(places);

    /// <summary>The sockets on which programs speak of themselves.</summary>
    public ISayDoors Says { get; set; } = new NoSayDoors();

    /// <summary>Why a folder is the host's own or this sentry's, as a clause; null: it is neither.</summary>
    /// <param name="path">Absolute, without links.</param>
    public string? WhyHosts(string path)
    {
        var ours = (
            (string[])[places.Library, places.Logs, places.RunDirectory, Path.GetDirectoryName(places.Settings)!]
        ).FirstOrDefault(own => path == own || path.StartsWith($"{own}/", StringComparison.Ordinal));
        return ours is not null
            ? $"{ours} is the sentry's own"
            : HostPlaces.WhyOwn(
                path,
                uid => Account.NameOf(uid) is var name && (Permits.WasMade(name) || Permits.Permitted(name))
            );
    }
}
