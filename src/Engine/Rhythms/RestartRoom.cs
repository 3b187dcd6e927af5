using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Probing;
using CalmSentry.Engine.Services;

namespace CalmSentry.Engine.Rhythms;

/// <summary>Planned restarts that are due: whether each can be done, and in which order.</summary>
internal static class RestartRoom
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(5);

    /// <summary>Looks whether a restart can be done, until it is decided.</summary>
    public static async Task Weigh(ServiceActor actor, DateTimeOffset moment, House house, CancellationToken gone)
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

            var busy = planned.Busy is { } asks ? await Busy(asks, actor, run.Number, house, gone) : null;
            await actor.Ask(new RestartWeighed(moment, busy, memory, ceiling));
            await Task.WhenAny(said, house.Delay(Beat, gone));
        }
    }

    /// <returns>What it is busy with, as a clause; null: nothing.</returns>
    private static async Task<string?> Busy(
        string asks,
        ServiceActor actor,
        RunNumber run,
        House house,
        CancellationToken gone
    )
    {
        if (asks == PlannedRestart.BusySaid)
            return actor.BusyWith;
        Proof look = asks.StartsWith('/')
            ? new CommandProof([.. CommandLine.Words(asks)])
            : new HttpProof(asks, 200, null);
        var (notBusy, seen) = await Answers.Of(look, actor, run, house.Tools, null, gone).OrWhyNot();
        return notBusy is null ? seen : null;
    }

    /// <summary>
    /// Restarts it, with whatever is due at the same time and needs it or is needed: those that need another are down before
    /// that one is, and begin again once it is ready. None is restarted while another of them is still busy.
    /// </summary>
    public static async Task InOrder(
        ServiceActor actor,
        DateTimeOffset moment,
        House house,
        Registry registry,
        CancellationToken gone
    )
    {
        while (!gone.IsCancellationRequested)
        {
            var change = registry.Readiness.NextChange();
            if (actor.Situation.Rhythm?.Restart is not { Goes: true } due || due.Moment != moment)
                return;
            // What a plan has in hand is its alone: that another of them is being stopped already does not make this one free.
            var together =
                registry.Plans.Concerns(actor.Definition.Name) || registry.Swaps.UnderWay(actor.Id) is not null
                    ? []
                    : Together(actor, moment, registry);
            if (together.Count > 0 && together.TrueForAll(one => one.Situation.Rhythm?.Restart is { Goes: true }))
            {
                // All of them come to the same answer; the first of them by name acts on it.
                if (together.MinBy(one => one.Definition.Name, StringComparer.Ordinal) == actor)
                    await Restart(together, registry);
                if (together.Count == 1)
                    return;
            }

            await Task.WhenAny(change, house.Delay(Beat, gone));
        }
    }

    private static async Task Restart(List<ServiceActor> together, Registry registry)
    {
        if (together is [var alone])
        {
            await alone.Ask(new RestartAsked(Principal.Rhythm));
            return;
        }

        var names = together.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        var plan = registry.Plans.Of(PlanKind.Restart, names, Principal.Rhythm);
        // They wait for what they need to be ready by themselves.
        await registry.Plans.Begin(
            plan with
            {
                Begins = [.. plan.Stops.Reverse().Select(stop => new PlanBegin(stop.Name))],
            }
        );
    }

    /// <summary>Those whose restart is due, or comes at this moment, along the needs that join them.</summary>
    private static List<ServiceActor> Together(ServiceActor actor, DateTimeOffset moment, Registry registry)
    {
        List<ServiceActor> together = [actor];
        for (var i = 0; i < together.Count; i++)
        {
            var name = together[i].Definition.Name;
            foreach (
                var other in registry
                    .Graph.DependentsOf(name)
                    .Concat(together[i].Definition.Begin.Needs.OfType<ServiceNeed>().Select(need => need.Service))
                    .Select(registry.Named)
                    .OfType<ServiceActor>()
            )
                if (!together.Contains(other) && Comes(other, moment))
                    together.Add(other);
        }

        return together;
    }

    private static bool Comes(ServiceActor actor, DateTimeOffset moment) =>
        actor.Situation is { Phase: Phase.Running, Rhythm: { } rhythm }
        && !actor.Definition.IsJob
        && (rhythm.Restart is not null || rhythm.Places.Any(place => place.Next <= moment));
}
