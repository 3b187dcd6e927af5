using CalmSentry.Contract;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Begin;
using CalmSentry.Engine.Events;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Store;

namespace CalmSentry.Engine.Services;

/// <summary>What all services share of the sentry they live in.</summary>
internal sealed class House(Places places, SentryStore store, string keeper, Clocks clocks)
{
    public Places Places { get; } = places;

    public SentryStore Store { get; } = store;

    public EventHub Events { get; } = new();

    public Record Logbook => Once(ref logbook, () => new(Store, Events, clocks.Time));

    public StartGate Gate => Once(ref gate, () => new(Host, clocks));

    public static readonly int UsualJobs = 32 * Environment.ProcessorCount;

    /// <summary>How many jobs may be at work at once.</summary>
    public int JobsAtOnce { get; init; } = UsualJobs;

    public JobGate Jobs => Once(ref jobs, () => new(JobsAtOnce));

    public Calendar Calendar => Once(ref calendar, () => new(Host, clocks));

    /// <summary>When the server before this one was last seen alive, if that is on record.</summary>
    public DateTimeOffset? LastSeen { get; set; }

    /// <summary>Who looks after a service's output that was turned over, or is to be kept otherwise.</summary>
    public Action<ServiceActor> Turned { get; set; } = _ => { };

    /// <summary>Keepers, and what runs leave behind.</summary>
    public IRunHost Host
    {
        get => Once(ref host, () => new RunHost(Tools));
        init => host = value;
    }

    public Clocks Clocks => clocks;

    /// <summary>Does something when, and only when, all that was given to the store so far is committed.</summary>
    public void OnceKept(Action what) =>
        _ = Store
            .Flush(soon: false)
            .ContinueWith(
                _ => what(),
                CancellationToken.None,
                TaskContinuationOptions.OnlyOnRanToCompletion,
                clocks.Tasks
            );

    /// <summary>What runs are made of on this host.</summary>
    public RunTools Tools => Once(ref tools, () => new(Places, Store, keeper, () => Logbook));

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
        Tools.Groups.Remove();
        Tools.Ceilings.Remove();
        Tools.SecretFiles.RemoveAll();
    }
}
