using CalmSentry.Contract;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Accounts;
using CalmSentry.Engine.Begin;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Events;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Engine.Secrets;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>What every service needs of the sentry it lives in.</summary>
internal sealed class House(Places places, SentryStore store, string keeper, TimeProvider clock)
{
    public Places Places { get; } = places;

    public SentryStore Store { get; } = store;

    public EventHub Events { get; } = new();

    public Record Logbook => Once(ref logbook, () => new(Store, Events, Clock));

    public StartGate Gate => Once(ref gate, () => new(this));

    public static readonly int UsualJobs = 32 * Environment.ProcessorCount;

    public static readonly TimeSpan UsualShutdown = TimeSpan.FromSeconds(60);

    /// <summary>How many jobs may be at work at once.</summary>
    public int JobsAtOnce { get; init; } = UsualJobs;

    public JobGate Jobs => Once(ref jobs, () => new(JobsAtOnce));

    public Calendar Calendar => Once(ref calendar, () => new(this));

    /// <summary>How long winding down all services may take before the machine goes down.</summary>
    public TimeSpan ShutdownWithin { get; init; } = UsualShutdown;

    /// <summary>When the server before this one was last seen alive, if that is on record.</summary>
    public DateTimeOffset? LastSeen { get; set; }

    /// <summary>While a drill is under way, when it had the machine come up.</summary>
    public DateTimeOffset? DrillBegan { get; set; }

    /// <summary>Who looks after a service's output that was turned over, or is to be kept otherwise.</summary>
    public Action<ServiceActor> Turned { get; set; } = _ => { };

    /// <summary>Keepers, and what runs leave behind.</summary>
    public IRunHost Host
    {
        get => Once(ref host, () => new RunHost(Tools));
        init => host = value;
    }

    /// <summary>Where what the sentry does by itself goes on; a simulation brings its own.</summary>
    public TaskScheduler Tasks { get; init; } = TaskScheduler.Default;

    /// <summary>Whoever waits for a service goes on by itself, never within its actor.</summary>
    public TaskCreationOptions Promises { get; init; } = TaskCreationOptions.RunContinuationsAsynchronously;

    /// <summary>Begins something that goes on by itself.</summary>
    public Task Run(Func<Task> work) =>
        Task.Factory.StartNew(work, CancellationToken.None, TaskCreationOptions.DenyChildAttach, Tasks).Unwrap();

    /// <summary>Waits for a length by the clock that only goes forward.</summary>
    public Task Delay(TimeSpan length) => Task.Delay(length, Clock);

    /// <summary>As <see cref="Delay(TimeSpan)"/>, until nobody waits any more.</summary>
    public async Task Delay(TimeSpan length, CancellationToken gone)
    {
        var over = new TaskCompletionSource(Promises);
        await using var cancelled = gone.UnsafeRegister(_ => over.TrySetCanceled(gone), null);
        await using var timer = Clock.CreateTimer(_ => over.TrySetResult(), null, length, Timeout.InfiniteTimeSpan);
        await over.Task;
    }

    /// <summary>Does something when, and only when, all that was given to the store so far is committed.</summary>
    public void OnceKept(Action what) =>
        _ = Store
            .Flush(soon: false)
            .ContinueWith(_ => what(), CancellationToken.None, TaskContinuationOptions.OnlyOnRanToCompletion, Tasks);

    /// <summary>Why a folder is the host's own or this sentry's, as a clause; null: it is neither.</summary>
    /// <param name="path">Absolute, without links.</param>
    public string? WhyHosts(string path)
    {
        var ours = (
            (string[])[Places.Library, Places.Logs, Places.RunDirectory, Path.GetDirectoryName(Places.Settings)!]
        ).FirstOrDefault(own => path == own || path.StartsWith($"{own}/", StringComparison.Ordinal));
        return ours is not null
            ? $"{ours} is the sentry's own"
            : HostPlaces.WhyOwn(
                path,
                uid => Account.NameOf(uid) is var name && (Permits.WasMade(name) || Permits.Permitted(name))
            );
    }

    /// <summary>What runs are made of on this host.</summary>
    public RunTools Tools => Once(ref tools, () => new(Places, Store, keeper, () => Logbook));

    public ControlGroups Groups => Tools.Groups;

    public Ceilings Ceilings => Tools.Ceilings;

    public KeeperStarter Keepers => Tools.Keepers;

    public AsAccount AsAccount => Tools.AsAccount;

    public SecretBox Secrets => Tools.Secrets;

    public DefinitionCopies Copies => Tools.Copies;

    public Permits Permits => Tools.Permits;

    public StateRooms States { get; } = new(places);

    public TimeProvider Clock { get; } = clock;

    public DateTimeOffset Now => Clock.GetUtcNow();

    /// <summary>Since some moment of this boot, by the clock that only goes forward: what lengths are measured by.</summary>
    public TimeSpan Forward => Clock.GetElapsedTime(0, Clock.GetTimestamp());

    /// <summary>Now, by both clocks.</summary>
    public ClockStamp Stamp => new(Now, (long)Forward.TotalMilliseconds);

    /// <summary>Made when it is first asked for; whoever asks gets the same one.</summary>
    private static T Once<T>(ref T? part, Func<T> make)
        where T : class => LazyInitializer.EnsureInitialized(ref part, make);

    private RunTools? tools;
    private IRunHost? host;
    private StartGate? gate;
    private JobGate? jobs;
    private Calendar? calendar;
    private Record? logbook;

    /// <summary>Removes what the sentry made on the host and nothing uses any more.</summary>
    public void CleanUp()
    {
        Groups.Remove();
        Ceilings.Remove();
        Tools.SecretFiles.RemoveAll();
    }
}
