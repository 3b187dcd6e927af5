using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CsCheck;

namespace CalmSentry.Tests.Core.Plans;

/// <summary>Plans that live through what may happen to them, each step held against the laws of plans.</summary>
internal static class AnyPlan
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    /// <summary>Services S0, S1 …, each needing some of those before it.</summary>
    internal static readonly Gen<IReadOnlyList<Definition>> Services =
        from needs in Gen.Int[0, 255].Array[1, 8]
        select (IReadOnlyList<Definition>)
            [
                .. needs.Select(
                    (mask, i) =>
                        Definition.Empty with
                        {
                            Name = $"s{i}",
                            Begin = new()
                            {
                                Needs =
                                [
                                    .. Enumerable
                                        .Range(0, i)
                                        .Where(other => (mask >> other & 1) == 1)
                                        .Select(other => new ServiceNeed($"s{other}", IfLost.Leave)),
                                ],
                            },
                        }
                ),
            ];

    internal enum Event
    {
        Look,
        Ends,
        LostBeforeTheDeeds,
        LostAmongTheDeeds,
        LostAfterTheDeeds,
        BegunByOthers,
        StoppedByOthers,
        Removed,
        TimePasses,
    }

    internal static readonly Gen<(Event What, int Which)[]> Happenings = Gen.Select(
        Gen.Frequency(
            (6, Gen.Const(Event.Look)),
            (8, Gen.Const(Event.Ends)),
            (2, Gen.Const(Event.LostBeforeTheDeeds)),
            (2, Gen.Const(Event.LostAmongTheDeeds)),
            (1, Gen.Const(Event.LostAfterTheDeeds)),
            (1, Gen.Const(Event.BegunByOthers)),
            (1, Gen.Const(Event.StoppedByOthers)),
            (1, Gen.Const(Event.Removed)),
            (2, Gen.Const(Event.TimePasses))
        ),
        Gen.Int[0, 7]
    ).Array[0, 80];

    /// <summary>A plan that stops something, after a life of happenings and at its end.</summary>
    internal static readonly Gen<Plan> Lives =
        from services in Services
        from happenings in Happenings
        from kind in Gen.Enum<PlanKind>().Where(kind => kind is not (PlanKind.Boot or PlanKind.Start))
        from mask in Gen.Int[0, 255]
        from forced in Gen.Bool
        select Lived(services, happenings, kind, mask, forced);

    private static Plan Lived(
        IReadOnlyList<Definition> services,
        (Event What, int Which)[] happenings,
        PlanKind kind,
        int mask,
        bool forced
    )
    {
        var machine = new Machine(services, kind, mask, forced);
        foreach (var (what, which) in happenings)
            machine.Happens(what, which);
        machine.ToItsEnd();
        return machine.Plan;
    }

    /// <summary>A plan and the services it is about, as a server and its actors would have them.</summary>
    internal sealed class Machine
    {
        private sealed class Service
        {
            public RunNumber Run,
                Last;
            public bool Exists = true,
                Stopping,
                Forced;
            public int Begun;
        }

        private readonly Dictionary<string, Service> services;
        private readonly NeedGraph graph;
        private readonly HashSet<string> others = [],
            theirs = [];
        private Plan plan;

        public Plan Plan => plan;

        private DateTimeOffset now = Start;
        private bool resumed;

        public Machine(IReadOnlyList<Definition> definitions, PlanKind kind, int mask, bool forced)
        {
            graph = new(definitions);
            services = definitions.ToDictionary(
                one => one.Name,
                _ => new Service { Run = new(1), Last = new(1) },
                StringComparer.Ordinal
            );
            var names = graph.WithDependents(definitions.Where((_, i) => (mask >> i & 1) == 1).Select(one => one.Name));
            plan = new()
            {
                Kind = kind,
                By = new("anna"),
                Began = now,
                Stops = PlanLife.Stops(graph, names),
                ForceAt = forced ? now.AddSeconds(60) : null,
            };
            if (kind is PlanKind.Restart or PlanKind.Drill)
                plan = plan with
                {
                    // Of several that are named together none need be wanted in any case: all of them ran.
                    Begins =
                    [
                        .. plan
                            .Stops.Reverse()
                            .Select((stop, i) => new PlanBegin(stop.Name, Wanted: i == 0 && mask % 3 != 0)),
                    ],
                };
        }

        public void Happens(Event what, int which)
        {
            var (name, service) = services.ElementAt(which % services.Count);
            switch (what)
            {
                case Event.Look:
                    Look(deeds => deeds.Length);
                    break;
                case Event.LostBeforeTheDeeds:
                    Look(_ => 0);
                    resumed = true;
                    break;
                case Event.LostAmongTheDeeds:
                    Look(deeds => deeds.Length / 2);
                    resumed = true;
                    break;
                case Event.LostAfterTheDeeds:
                    Look(deeds => deeds.Length);
                    resumed = true;
                    break;
                case Event.Ends when service.Run > default(RunNumber):
                    (service.Run, service.Stopping) = (default, false);
                    break;
                case Event.BegunByOthers when service is { Exists: true, Stopping: false } && service.Run == default:
                    Begin(service);
                    others.Add(name);
                    break;
                case Event.StoppedByOthers when service is { Stopping: false } && service.Run > default(RunNumber):
                    service.Stopping = true;
                    if (plan.Stops.Any(stop => stop.Name == name && stop.AskedAt is null))
                        theirs.Add(name);
                    break;
                case Event.Removed when service.Run == default:
                    service.Exists = false;
                    break;
                case Event.TimePasses:
                    now = now.AddSeconds(20);
                    break;
            }
        }

        public void ToItsEnd()
        {
            for (var turns = 0; plan.Step is not (PlanStep.Done or PlanStep.Settling) || resumed; turns++)
            {
                Assert.True(turns < 40, "a plan comes to its end when what was asked to stop does");
                Look(deeds => deeds.Length);
                foreach (var service in services.Values.Where(service => service.Stopping))
                    (service.Run, service.Stopping) = (default, false);
            }

            Assert.All(plan.Stops, stop => Assert.NotNull(stop.DownAt));
            foreach (
                var begin in plan.Begins.Where(begin =>
                    services[begin.Name].Exists
                    && !others.Contains(begin.Name)
                    && !(plan.Kind == PlanKind.Restart && !begin.Wanted && theirs.Contains(begin.Name))
                )
            )
                Assert.True(services[begin.Name].Last > begin.From, "what was to be begun was begun");
            if (plan is { Kind: PlanKind.Restart, Forced: false })
                foreach (
                    var name in theirs
                        .Except(others)
                        .Except(plan.Begins.Where(one => one.Wanted).Select(one => one.Name))
                )
                    Assert.Equal(0, services[name].Begun); // somebody else has stopped it before this plan could
        }

        private void Look(Func<System.Collections.Immutable.ImmutableArray<PlanDeed>, int> done)
        {
            var (after, deeds) = PlanLife.Step(plan, StandingOf, now, resumed);
            resumed = false;
            plan = after;
            foreach (var deed in deeds.Take(done(deeds)))
                Carry(deed);
        }

        private void Carry(PlanDeed deed)
        {
            var service = services[deed.Name];
            switch (deed)
            {
                case AskStop:
                    foreach (var dependent in graph.DependentsOf(deed.Name).Where(Planned))
                        Assert.True(
                            services[dependent].Run == default || others.Contains(dependent),
                            $"{dependent} is down before {deed.Name} is asked"
                        );
                    service.Stopping = service.Run > default(RunNumber);
                    break;
                case AskForce:
                    Assert.True(now >= plan.ForceAt, "force comes when its time has come");
                    service.Forced = service.Stopping;
                    break;
                case AskBegin:
                    Assert.All(plan.Stops, stop => Assert.NotNull(stop.DownAt));
                    if (service.Run == default && service.Exists)
                        Begin(service);
                    break;
            }
        }

        private bool Planned(string name) => plan.Stops.Any(stop => stop.Name == name);

        private static void Begin(Service service)
        {
            service.Last = service.Last.Next();
            (service.Run, service.Begun) = (service.Last, service.Begun + 1);
        }

        private Standing StandingOf(string name) =>
            services[name] is { Exists: true } one
                ? new(true, one.Run, one.Last, Waits: false, one.Stopping, one.Forced)
                : default;
    }
}
