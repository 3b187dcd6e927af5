using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Settling;
using CalmSentry.Engine.Swaps;

namespace CalmSentry.Engine;

/// <summary>The engine put together: the services, and what is done to several of them or to their files.</summary>
internal sealed class Rooms : ITogether
{
    private readonly PlannedRestarts restarts;

    public Rooms(House house)
    {
        House = house;
        Registry = new(house) { Together = this };
        Plans = new(Registry, house.Store, house.Logbook, house.Clocks);
        Swaps = new(Registry, Plans, house.Store, house.Logbook, house.Tools, house.Clocks);
        Settling = new(Registry, house.Store, house.Logbook, house.Clocks);
        restarts = new(Registry, Plans, house.Clocks);
    }

    public House House { get; }

    public Registry Registry { get; }

    /// <summary>What is under way with several services together.</summary>
    public PlanRoom Plans { get; }

    /// <summary>New program files under way.</summary>
    public SwapRoom Swaps { get; }

    /// <summary>Bringing the machine to files.</summary>
    public SettleRoom Settling { get; }

    Task ITogether.Stop(IReadOnlySet<string> names, Principal by) => Plans.Stop(names, by);

    bool ITogether.Judges(ServiceId service, RunNumber run) => Swaps.Judges(service, run);

    Task ITogether.Restart(ServiceActor service, DateTimeOffset moment, CancellationToken gone) =>
        restarts.Restart(service, moment, gone);

    /// <summary>Finds out what became of everything while no server watched, and goes on with what was under way.</summary>
    /// <returns>What made services begin: boot, or start after all was wound down; null: nothing did.</returns>
    public async Task<ReportKind?> TakeUp()
    {
        await Registry.Settle();
        Swaps.Settle();
        return await Registry.TakeUp(newMachine =>
        {
            Plans.TakeUp(newMachine);
            Swaps.TakeUp();
            Settling.TakeUp();
        });
    }
}
