using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Services;

namespace CalmSentry.Engine.Plans;

/// <summary>Planned restarts that are due and can be done: in which order.</summary>
internal sealed class PlannedRestarts(Registry registry, PlanRoom plans, Clocks clocks)
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(5);

    /// <summary>
    /// Restarts it, with whatever is due at the same time and needs it or is needed: those that need another are down before
    /// that one is, and begin again once it is ready. None is restarted while another of them is still busy.
    /// </summary>
    public async Task Restart(ServiceActor actor, DateTimeOffset moment, CancellationToken gone)
    {
        while (!gone.IsCancellationRequested)
        {
            var change = registry.Readiness.NextChange();
            if (actor.Situation.Rhythm?.Restart is not { Goes: true } due || due.Moment != moment)
                return;
            // What a plan has in hand is its alone: that another of them is being stopped already does not make this one free.
            var together = plans.Concerns(actor.Definition.Name) ? [] : Together(actor, moment);
            if (
                together.Count > 0
                && together.TrueForAll(one => one.Situation.Rhythm?.Restart is { Goes: true })
                && registry.InHand.Of(together.Select(one => one.Definition.Name)) is null
            )
            {
                // All of them come to the same answer; the first of them by name acts on it.
                if (together.MinBy(one => one.Definition.Name, StringComparer.Ordinal) == actor)
                    await Restart(together);
                if (together.Count == 1)
                    return;
            }

            await Task.WhenAny(change, clocks.Delay(Beat, gone));
        }
    }

    private async Task Restart(List<ServiceActor> together)
    {
        if (together is [var alone])
        {
            await alone.Ask(new RestartAsked(Principal.Rhythm));
            return;
        }

        var names = together.Select(one => one.Definition.Name).ToHashSet(StringComparer.Ordinal);
        var plan = plans.Of(PlanKind.Restart, names, Principal.Rhythm);
        // They wait for what they need to be ready by themselves.
        try
        {
            await plans.Begin(
                plan with
                {
                    Begins = [.. plan.Stops.Reverse().Select(stop => new PlanBegin(stop.Name))],
                }
            );
        }
        catch (BusyException)
        {
            // Taken in this moment: what is planned waits.
        }
    }

    /// <summary>Those whose restart is due, or comes at this moment, along the needs that join them.</summary>
    private List<ServiceActor> Together(ServiceActor actor, DateTimeOffset moment)
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
