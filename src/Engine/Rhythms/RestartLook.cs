using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Probing;
using CalmSentry.Engine.Watching;

namespace CalmSentry.Engine.Rhythms;

/// <summary>Planned restarts that are due: whether each can be done.</summary>
internal static class RestartLook
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(5);

    /// <summary>Looks whether a restart can be done, until it is decided.</summary>
    public static async Task Go(
        IWatched actor,
        DateTimeOffset moment,
        RunTools tools,
        Clocks clocks,
        CancellationToken gone
    )
    {
        while (!gone.IsCancellationRequested)
        {
            var due = actor.Situation.Rhythm?.Restart;
            if (
                due?.Moment != moment
                || due.Goes
                || actor.Situation.Run is not { } run
                || actor.Definition.Rhythm.OfType<PlannedRestart>().FirstOrDefault(one => one.Of == due.Of)
                    is not { } planned
            )
                return;
            var said = actor.NextSaid;
            long? memory = planned.MemoryAbove is null ? null : actor.Vitals.Look(TimeSpan.Zero).Memory;
            TimeSpan? ceiling = null;
            if (planned.CeilingWithin is not null && actor.Definition.Resources.Memory is { } limit)
            {
                var (sample, trend) = actor.Vitals.Growth(TimeSpan.Zero);
                ceiling = trend?.Until(sample.Memory, limit);
            }

            var busy = planned.Busy is { } asks ? await Busy(asks, actor, run.Number, tools, gone) : null;
            await actor.Ask(new RestartWeighed(moment, busy, memory, ceiling));
            await Task.WhenAny(said, clocks.Delay(Beat, gone));
        }
    }

    /// <returns>What it is busy with, as a clause; null: nothing.</returns>
    private static async Task<string?> Busy(
        string asks,
        IWatched actor,
        RunNumber run,
        RunTools tools,
        CancellationToken gone
    )
    {
        if (asks == PlannedRestart.BusySaid)
            return actor.BusyWith;
        Proof look = asks.StartsWith('/')
            ? new CommandProof([.. CommandLine.Words(asks)])
            : new HttpProof(asks, 200, null);
        var (notBusy, seen) = await Answers.Of(look, actor, run, tools, null, gone).OrWhyNot();
        return notBusy is null ? seen : null;
    }
}
