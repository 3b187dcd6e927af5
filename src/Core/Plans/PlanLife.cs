using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Plans;

/// <summary>
/// The steps of plans, and nothing else: from a plan, how its services stand, and when, to the plan as it is then and what
/// is to be done. Whatever is asked does no harm when it is asked twice: the server may be lost between the record and
/// the deed.
/// </summary>
public static class PlanLife
{
    /// <summary>A stop of services, each after those that need it.</summary>
    public static ImmutableArray<PlanStop> Stops(NeedGraph graph, IReadOnlySet<string> names) =>
        [
            .. graph
                .BeginOrder.Reverse()
                .Where(names.Contains)
                .Select(name => new PlanStop(name, [.. graph.DependentsOf(name).Where(names.Contains)])),
        ];

    /// <param name="at">How a service stands.</param>
    /// <param name="resumed">A returning server: it is not known which of the last deeds were done.</param>
    public static (Plan After, ImmutableArray<PlanDeed> Deeds) Step(
        Plan plan,
        Func<string, Standing> at,
        DateTimeOffset now,
        bool resumed = false
    )
    {
        var deeds = ImmutableArray.CreateBuilder<PlanDeed>();
        if (plan.Step == PlanStep.Stopping)
            plan = Stop(plan, at, now, deeds);
        if (plan.Step == PlanStep.Beginning || (resumed && plan.Step == PlanStep.Settling))
            plan = Begin(plan, at, now, resumed, deeds);
        return (plan, deeds.ToImmutable());
    }

    /// <summary>
    /// What is left to do when all that was begun has come to rest. The plan is over once it is done; a server that is lost
    /// before waits for the rest again, and does it.
    /// </summary>
    public static ImmutableArray<PlanDeed> Last(Plan plan) => [.. plan.Afterwards.Select(name => new AskStart(name))];

    private static Plan Stop(
        Plan plan,
        Func<string, Standing> at,
        DateTimeOffset now,
        ImmutableArray<PlanDeed>.Builder deeds
    )
    {
        var force = plan.Forced || now >= plan.ForceAt;
        var stops = plan.Stops.ToBuilder();
        var up = stops.Where(stop => stop.DownAt is null).Select(stop => stop.Name).ToHashSet(StringComparer.Ordinal);
        // Dependents stand before whom they need: one pass finds all that have become free.
        for (var i = 0; i < stops.Count; i++)
        {
            var stop = stops[i];
            if (stop.DownAt is not null)
                continue;
            var standing = at(stop.Name);
            if (IsDown(stop, standing))
            {
                up.Remove(stop.Name);
                stops[i] = stop with { DownAt = now, Forced = stop.AskedAt is not null && standing.Forced };
                continue;
            }

            if (stop.AskedAt is null)
            {
                // On its way down by somebody else's word it is theirs, and so is whether it comes back.
                if (stop.After.Any(up.Contains) || (plan.Kind == PlanKind.Restart && standing.Stopping && !force))
                    continue;
                stops[i] = stop with { AskedAt = now, Run = standing.Run };
            }

            if (!standing.Stopping)
                deeds.Add(new AskStop(stop.Name));
            if (force && (!plan.Forced || stop.AskedAt is null))
                deeds.Add(new AskForce(stop.Name));
        }

        plan = plan with { Stops = stops.ToImmutable(), Forced = force };
        return up.Count == 0 ? plan with { Step = plan.Begins.IsEmpty ? PlanStep.Done : PlanStep.Beginning } : plan;
    }

    /// <summary>What was asked is over when that run is, whatever somebody else has begun since.</summary>
    private static bool IsDown(PlanStop stop, Standing standing) =>
        !standing.Lives || (stop.AskedAt is not null && standing.Run != stop.Run);

    /// <summary>Whether this plan has stopped it.</summary>
    public static bool HasStopped(Plan plan, string name) =>
        plan.Stops.Any(stop => stop.Name == name && stop.AskedAt is not null);

    /// <summary>A restart brings back what it has stopped; and it begins what somebody has named, also where that did not run.</summary>
    private static bool IsToBegin(Plan plan, PlanBegin begin) =>
        plan.Kind != PlanKind.Restart || begin.Wanted || HasStopped(plan, begin.Name);

    private static Plan Begin(
        Plan plan,
        Func<string, Standing> at,
        DateTimeOffset now,
        bool resumed,
        ImmutableArray<PlanDeed>.Builder deeds
    )
    {
        if (plan.Kind is PlanKind.Boot or PlanKind.Start)
            return plan with { Step = PlanStep.Settling }; // they begin by themselves
        // All was asked, and whoever asked has come back: then it was done.
        if (!resumed && plan.BegunAt is not null)
            return plan with { Step = plan.Kind == PlanKind.Drill ? PlanStep.Settling : PlanStep.Done };
        var begins = plan.Begins;
        for (var i = 0; i < begins.Length; i++)
        {
            var (begin, standing) = (begins[i], at(begins[i].Name));
            if (!IsToBegin(plan, begin))
                continue;
            if (!begin.Asked)
                begins = begins.SetItem(i, begin with { Asked = true, From = standing.LastRun });
            else if (standing.Lives || standing.LastRun > begin.From)
                continue; // it was begun before the server was lost
            if (standing.Exists)
                deeds.Add(new AskBegin(begin.Name));
        }

        // It stays in this step until it is asked again: the server may be lost before the deeds.
        return plan with
        {
            Begins = begins,
            BegunAt = plan.BegunAt ?? now,
            Step = PlanStep.Beginning,
        };
    }
}
