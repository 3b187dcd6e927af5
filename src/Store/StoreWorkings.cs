namespace CalmSentry.Store;

/// <summary>What a store works with: the host's clock, tasks and disk, unless a simulation brings its own.</summary>
internal sealed class StoreWorkings
{
    public TimeProvider Clock { get; init; } = TimeProvider.System;

    public TaskScheduler Tasks { get; init; } = TaskScheduler.Default;

    /// <summary>Whoever waits for the store goes on by itself, never within the writer.</summary>
    public TaskCreationOptions Promises { get; init; } = TaskCreationOptions.RunContinuationsAsynchronously;

    /// <summary>Asked before each commit: why the disk takes nothing; null: it does.</summary>
    public Func<string?> Refuses { get; init; } = () => null;

    /// <summary>Hears of each commit, and whether all so far survives a power cut.</summary>
    public Action<bool> Committed { get; init; } = _ => { };
}
