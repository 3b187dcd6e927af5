using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>Definitions, what may happen to a service of one, and where it stands after random lives.</summary>
internal static class AnyLife
{
    /// <summary>A service as most are.</summary>
    internal static Definition Usual => Make(BeginAt.Boot, RecoverAfter.Failure, 1, 5, 1);

    internal static readonly string[] Needed = ["tide-store", "berth-relay"];

    internal static readonly string[] CodeNames = ["1", "KILL", "0"];

    internal static readonly DateOnly Today = DateOnly.FromDateTime(World.Start.UtcDateTime);

    internal static readonly Gen<Planned> Planned =
        from seconds in OneOf(10, 60, 3600)
        from running in Gen.Enum<IfRunning>()
        from missed in Gen.Enum<IfMissed>()
        from longest in OneOf<int?>(null, 5, 600)
        from again in Gen.Int[0, 2]
        from spread in OneOf<int?>(null, 0, 9)
        from late in OneOf<int?>(null, 1, 60)
        from success in OneOf<int?>(null, 30, 7200)
        from except in OneOf<Excepted?>(
            null,
            null,
            new([Today.AddDays(1)], null),
            new([Today, Today.AddDays(3)], "/srv/skerry/days")
        )
        select (Planned)
            new PlannedRun(new Every(TimeSpan.FromSeconds(seconds), null))
            {
                IfRunning = running,
                Missed = missed,
                Longest = longest is { } most ? TimeSpan.FromSeconds(most) : null,
                Again = again,
                LateAfter = late is { } after ? TimeSpan.FromSeconds(after) : null,
                Except = except,
                SuccessWithin = success is { } within ? TimeSpan.FromSeconds(within) : null,
                Spread = spread is { } part ? TimeSpan.FromSeconds(part) : null,
                Zone = "UTC",
            };

    internal static readonly Gen<Planned> PlannedRestarts =
        from seconds in OneOf(60, 3600)
        from busy in OneOf<string?>(null, PlannedRestart.BusySaid)
        from needless in OneOf(0, 120)
        from above in OneOf<long?>(null, 1 << 20)
        select (Planned)
            new PlannedRestart(new Every(TimeSpan.FromSeconds(seconds), null))
            {
                Busy = busy,
                PutOff = TimeSpan.FromSeconds(30),
                NeedlessWithin = TimeSpan.FromSeconds(needless),
                MemoryAbove = above,
                Zone = "UTC",
            };

    internal static readonly Gen<Definition> Definitions =
        from at in Gen.Enum<BeginAt>()
        from after in Gen.Enum<RecoverAfter>()
        from first in OneOf(0, 1, 5)
        from ends in Gen.Int[0, 6]
        from steps in Gen.Int[0, 3]
        from kind in Gen.Enum<ProgramKind>()
        from needs in Gen.Enum<NeedFollow>().Array[0, 2]
        from proof in OneOf<Proof>(
            new UpForProof(UpForProof.Default),
            new UpForProof(UpForProof.Default),
            new TcpProof("127.0.0.1:7411"),
            new SaidProof { OnlyTell = true }
        )
        from ifLost in Gen.Enum<IfLost>()
        from watches in OneOf<Watch>(
            new AnswerWatch(new TcpProof("127.0.0.1:7411"))
            {
                Beat = TimeSpan.FromSeconds(1),
                Patience = 2,
                Follows = WatchFollow.Restart,
            },
            new SilenceWatch(TimeSpan.FromSeconds(5))
            {
                Beat = TimeSpan.FromSeconds(1),
                Follows = WatchFollow.RestartByForce,
            },
            new MemoryWatch(1 << 20)
            {
                Beat = TimeSpan.FromSeconds(1),
                Lasting = TimeSpan.FromSeconds(3),
                Follows = WatchFollow.Tell,
            }
        ).Array[0, 2]
        from codes in Gen.Enum<CodeFollow>().Array[0, 3]
        from retry in OneOf<int?>(null, null, 1, 600)
        from thens in Gen.Int[1, 4].Array[0, 2]
        from runs in Planned.Array[1, 2]
        from restarts in PlannedRestarts.Array[0, 2]
        from quiets in OneOf<Planned>(
            new PlannedQuiet(new Every(TimeSpan.FromMinutes(20), null))
            {
                For = TimeSpan.FromMinutes(5),
                NoRestarts = true,
                Spread = TimeSpan.Zero,
                Zone = "UTC",
            }
        ).Array[0, 1]
        select Make(at, after, first, ends, steps, kind) with
        {
            Rhythm = kind switch
            {
                ProgramKind.Periodic => [.. runs.DistinctBy(run => run.Of), .. quiets],
                ProgramKind.Toggles => [.. quiets],
                _ => [.. restarts.DistinctBy(restart => restart.Of), .. quiets],
            },
            Watch = [.. watches.Distinct().Where(watch => kind != ProgramKind.Toggles || watch is AnswerWatch)],
            Recover = new()
            {
                After = after,
                First = TimeSpan.FromSeconds(first),
                HoldEnds = ends,
                RetryEvery = retry is { } seconds ? TimeSpan.FromSeconds(seconds) : null,
                Codes = codes
                    .Select((then, i) => KeyValuePair.Create(CodeNames[i], then))
                    .ToImmutableSortedDictionary(StringComparer.Ordinal),
                Then = [.. thens.Distinct().Select(after => new FollowUp(["/srv/skerry/mend"]) { After = after })],
            },
            Begin = new()
            {
                At = at,
                Proof = proof,
                Needs = [.. needs.Select((then, i) => new ServiceNeed(Needed[i], ifLost) { Follows = then })],
            },
        };

    internal static readonly Gen<Outcome> Outcomes = OneOf<Outcome>(
        new(OutcomeKind.Exited),
        new(OutcomeKind.Exited, 1),
        new(OutcomeKind.Signalled, 9),
        new(OutcomeKind.Signalled, 11, Core: true),
        new(OutcomeKind.NeverLaunched, Detail: "there is no such program"),
        new(OutcomeKind.KeeperLost),
        new(OutcomeKind.MachineLost)
    );

    internal static readonly Gen<Action<World>> Events = Gen.Frequency(
        (3, Gen.Const<Action<World>>(world => world.Happens(new StartAsked(new("anna"))))),
        (2, Gen.Const<Action<World>>(world => world.Happens(new StopAsked(new("anna"))))),
        (2, Gen.Const<Action<World>>(world => world.Happens(new RestartAsked(new("anna"))))),
        (
            2,
            Gen.Const<Action<World>>(world =>
            {
                if (world.Situation.Rhythm?.Restart is { Goes: true })
                    world.Happens(new RestartAsked(Principal.Rhythm));
            })
        ),
        (1, Gen.Const<Action<World>>(world => world.Happens(new MachineBegan()))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new Wrapped()))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new StopAsked(new("anna"), ThisRun: true)))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new SkipAsked(new("anna"))))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new AdvanceAsked(new("anna"))))),
        (5, Gen.Const<Action<World>>(world => world.PassToNextMoment())),
        (
            1,
            Gen.Select(Gen.Int[-1, 600], Gen.Bool)
                .Select<(int, bool), Action<World>>(quiet =>
                    world => world.Happens(new QuietAsked(new("anna"), world.Now.AddSeconds(quiet.Item1), quiet.Item2))
                )
        ),
        (1, Gen.Bool.Select<bool, Action<World>>(set => world => world.Happens(new CalendarCame(set)))),
        (
            1,
            Gen.Select(Gen.Int[0, 6].Array[0, 3], Gen.Bool)
                .Select<(int[], bool), Action<World>>(days =>
                    world =>
                        world.Happens(
                            new DaysRead(
                                "/srv/skerry/days",
                                days.Item2 ? [.. days.Item1.Select(Today.AddDays)] : [],
                                days.Item2 ? null : "it is gone"
                            )
                        )
                )
        ),
        (
            2,
            Gen.Select(Gen.Bool, OneOf<long?>(null, 1, 1 << 21))
                .Select<(bool, long?), Action<World>>(weighed =>
                    world =>
                    {
                        if (world.Situation.Rhythm?.Restart is { } due)
                            world.Happens(
                                new RestartWeighed(due.Moment, weighed.Item1 ? "it prints" : null, weighed.Item2)
                            );
                    }
                )
        ),
        (1, Gen.Const<Action<World>>(world => world.Happens(new BootSettled()))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new StartAsked(new("anna"), WithoutNeeds: true)))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new ForceAsked(new("the shutdown"))))),
        (3, Definitions.Select<Definition, Action<World>>(other => world => world.Adjust(other))),
        (1, Gen.Const<Action<World>>(world => world.Happens(new ReleaseAsked(new("anna"))))),
        (
            1,
            Gen.Int[0, 90]
                .Select<int, Action<World>>(seconds =>
                    world => world.Happens(new WatchesPaused(new("anna"), TimeSpan.FromSeconds(seconds)))
                )
        ),
        (
            5,
            Gen.Select(Gen.Int[0, 1], Gen.Bool)
                .Select<(int, bool), Action<World>>(look =>
                    world =>
                    {
                        if (world.Live is { } run)
                            world.Sees(run, look.Item1, look.Item2);
                    }
                )
        ),
        (
            2,
            Gen.Select(Gen.Int[0, 2], Gen.Bool)
                .Select<(int, bool), Action<World>>(came =>
                    world =>
                        Alive(world, run => world.Happens(new StepAnswered(run, came.Item1, "it answered", came.Item2)))
                )
        ),
        (1, Gen.Const<Action<World>>(world => world.Happens(new Resumed()))),
        (
            6,
            Gen.Bool.Array[0, 2]
                .Select<bool[], Action<World>>(there =>
                    world => world.Happens(new NeedsSeen([.. there.Select(one => one ? null : "it is stopped")]))
                )
        ),
        (5, Gen.Const<Action<World>>(world => Alive(world, run => world.Happens(new Proven(run, "it answered"))))),
        (
            1,
            Gen.Const<Action<World>>(world =>
                Alive(world, run => world.Happens(new ProofMissing(run, "nobody answers")))
            )
        ),
        (2, OneOf(Needed).Select<string, Action<World>>(name => world => world.Happens(new NeededLost(name)))),
        (2, OneOf(Needed).Select<string, Action<World>>(name => world => world.Happens(new NeededBack(name)))),
        (6, Gen.Const<Action<World>>(world => Alive(world, run => world.Happens(new Launched(run, 4711))))),
        (1, Gen.Const<Action<World>>(world => Alive(world, run => world.Happens(new TakenUp(run, 4711))))),
        (
            8,
            Outcomes.Select<Outcome, Action<World>>(outcome =>
                world => Alive(world, run => world.Happens(new RunEnded(run, outcome)))
            )
        ),
        (
            2,
            Outcomes.Select<Outcome, Action<World>>(outcome =>
                world => Alive(world, run => world.Happens(new MainEnded(run, outcome)))
            )
        ),
        (
            2,
            Gen.Const<Action<World>>(world =>
                Alive(
                    world,
                    run =>
                    {
                        if (world.Done.OfType<FindMain>().Any(find => find.Run == run))
                            world.Happens(new MainFound(run, 4712));
                    }
                )
            )
        ),
        (2, Gen.Long[0, 5].Select<long, Action<World>>(old => world => Stale(world, old))),
        (8, Gen.Const<Action<World>>(world => world.PassToNextDecision())),
        (4, Gen.Int[1, 5000].Select<int, Action<World>>(ms => world => world.Passes(TimeSpan.FromMilliseconds(ms)))),
        (1, Gen.Int[1, 60].Select<int, Action<World>>(minutes => world => world.Passes(TimeSpan.FromMinutes(minutes))))
    );

    /// <summary>Where services stand after random lives.</summary>
    internal static readonly Gen<Situation> Situations = Gen.Select(Definitions, Events.Array[1, 60])
        .Select(
            (definition, events) =>
            {
                var world = new World(definition);
                foreach (var happens in events)
                    happens(world);
                return world.Situation;
            }
        );

    internal static Gen<T> OneOf<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);

    internal static Definition Make(
        BeginAt at,
        RecoverAfter after,
        int firstSeconds,
        int ends,
        int steps,
        ProgramKind kind = ProgramKind.Stays
    ) =>
        new()
        {
            Name = "gate-counter",
            Title = "Gate counter",
            Identity = new("skerry"),
            Program = new("/srv/skerry/gate-counter", [], null, ImmutableSortedDictionary<string, string>.Empty)
            {
                Kind = kind,
                Off = ["/srv/skerry/gate-off"],
            },
            Begin = new() { At = at },
            Recover = new()
            {
                After = after,
                First = TimeSpan.FromSeconds(firstSeconds),
                HoldEnds = ends,
                Spread = 0,
            },
            WindDown =
            [
                .. Enumerable
                    .Range(1, steps)
                    .Select(i =>
                        i % 2 == 0
                            ? (WindDownStep)new CloseInputStep(TimeSpan.FromSeconds(i))
                            : new SignalStep("TERM", TimeSpan.FromSeconds(i))
                    ),
            ],
        };

    internal static void Alive(World world, Action<RunNumber> then)
    {
        // Of what is switched on there is no process that news could come from.
        if (world.Live is { } run && world.Situation.Run is not { Switch: Switch.On })
            then(run);
    }

    internal static void Stale(World world, long back)
    {
        var run = new RunNumber(world.Situation.LastRun - 1 - back);
        if (run <= 0)
            return;
        var before = world.Situation;
        world.Happens(new RunEnded(run, new(OutcomeKind.Exited, 1)));
        world.Happens(new Launched(run, 1));
        Assert.Equal(before, world.Situation); // news of an earlier run changes nothing
    }
}
