using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Wording;
using CsCheck;

namespace CalmSentry.Tests.Unit.Lifecycle;

/// <summary>
/// The laws of a service's life, held against random lives. <see cref="World"/> checks most of them at every step.
/// </summary>
public class LawsTests
{
    private static readonly string[] Needed = ["tide-store", "berth-relay"];

    private static readonly string[] CodeNames = ["1", "KILL", "0"];

    private static readonly DateOnly Today = DateOnly.FromDateTime(World.Start.UtcDateTime);

    private static readonly Gen<Planned> Planned =
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

    private static readonly Gen<Planned> PlannedRestarts =
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

    private static readonly Gen<Definition> Definitions =
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

    private static readonly Gen<Outcome> Outcomes = OneOf<Outcome>(
        new(OutcomeKind.Exited),
        new(OutcomeKind.Exited, 1),
        new(OutcomeKind.Signalled, 9),
        new(OutcomeKind.Signalled, 11, Core: true),
        new(OutcomeKind.NeverLaunched, Detail: "there is no such program"),
        new(OutcomeKind.KeeperLost),
        new(OutcomeKind.MachineLost)
    );

    private static readonly Gen<Action<World>> Events = Gen.Frequency(
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

    private static Gen<T> OneOf<T>(params T[] values) => Gen.Int[0, values.Length - 1].Select(i => values[i]);

    private static Definition Make(
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

    [Fact]
    public void A_command_is_due_after_so_many_failures_and_once_until_a_run_was_steady()
    {
        var usual = Usual;
        var world = new World(
            usual with
            {
                Recover = usual.Recover with
                {
                    HoldEnds = 5,
                    Then = [new(["/srv/skerry/mend"]) { After = 2 }, new(["/srv/skerry/call"]) { After = 3 }],
                },
            }
        );
        world.Happens(new StartAsked(new("anna")));
        Assert.Equal([], Fails());
        Assert.Equal([0], Fails());
        Assert.Equal([1], Fails());
        Assert.Equal([], Fails());
        world.Launch();
        world.PassToNextDecision();
        world.Now += world.Definition.Recover.SteadyAfter + world.Definition.Recover.HoldWithin;
        world.End(new(OutcomeKind.Exited, 1));
        world.PassToNextDecision();
        Assert.Equal([0], Fails());

        List<int> Fails()
        {
            var before = world.Done.Count;
            world.Launch();
            world.End(new(OutcomeKind.Exited, 1));
            world.PassToNextDecision();
            return [.. world.Done.Skip(before).OfType<RunFollowUp>().Select(due => due.Index)];
        }
    }

    internal static Definition Usual => Make(BeginAt.Boot, RecoverAfter.Failure, 1, 5, 1);

    private static void Alive(World world, Action<RunNumber> then)
    {
        // Of what is switched on there is no process that news could come from.
        if (world.Live is { } run && world.Situation.Run is not { Switch: Switch.On })
            then(run);
    }

    private static void Stale(World world, long back)
    {
        var run = new RunNumber(world.Situation.LastRun - 1 - back);
        if (run <= 0)
            return;
        var before = world.Situation;
        world.Happens(new RunEnded(run, new(OutcomeKind.Exited, 1)));
        world.Happens(new Launched(run, 1));
        Assert.Equal(before, world.Situation); // news of an earlier run changes nothing
    }

    [Fact]
    public void Every_life_keeps_the_laws_over_a_million_steps()
    {
        var steps = 0L;
        Gen.Select(Definitions, Events.Array[1, 120])
            .Sample(
                (definition, events) =>
                {
                    var world = new World(definition);
                    foreach (var happens in events)
                        happens(world);
                    Interlocked.Add(ref steps, world.Steps);
                },
                iter: 60_000
            );
        Assert.True(steps > 1_000_000, $"a million steps and more: {steps}");
    }

    /// <summary>The store may lag: what it had not heard of is told by what was written down before each order.</summary>
    [Fact]
    public void Every_life_keeps_the_laws_when_the_store_falls_behind_and_all_is_killed() =>
        Gen.Select(Definitions, Events.Array[0, 40], Events.Array[1, 40], Events.Array[1, 40])
            .Sample(
                (definition, before, unheard, after) =>
                {
                    var world = new World(definition);
                    foreach (var happens in before)
                        happens(world);
                    var stored = (world.Definition, world.Situation);
                    if (world.Forgotten)
                        return;
                    foreach (var happens in unheard)
                        happens(world);
                    if (world.Forgotten)
                        return;
                    world.FallsBackTo(stored.Definition, stored.Situation);
                    foreach (var happens in after)
                        happens(world);
                },
                iter: 20_000
            );

    [Fact]
    public void A_stop_always_ends_within_its_waits() =>
        Gen.Select(Definitions, Events.Array[0, 60])
            .Sample(
                (definition, events) =>
                {
                    var world = new World(definition);
                    foreach (var happens in events)
                        happens(world);
                    world.Happens(new StopAsked(new("anna")));
                    var asked = world.Now;
                    // The worst program: nothing but the end of its whole tree by force ends it.
                    for (var turns = 0; world.Situation.Phase == Phase.Stopping; turns++)
                    {
                        Assert.True(turns < 10, "a stop comes to its end");
                        if (world.Done.OfType<EndTree>().Any(end => end.Run == world.Live))
                            world.End(new(OutcomeKind.Signalled, 9));
                        else
                            Assert.True(world.PassToNextDecision(), "a stop always has a next step");
                    }

                    Assert.Equal(Phase.Stopped, world.Situation.Phase);
                    Assert.True(
                        world.Now - asked
                            <= world.Definition.WindDown.Aggregate(TimeSpan.Zero, (sum, step) => sum + step.Wait)
                                + (
                                    definition.Program.Kind == ProgramKind.Toggles
                                        ? ServiceLife.SwitchPatience
                                        : TimeSpan.Zero
                                )
                    );
                    Assert.Null(world.Live);
                },
                iter: 2000
            );

    /// <summary>What stands on record and the definition may not belong together: then too every law holds from there on.</summary>
    [Fact]
    public void A_situation_fits_whatever_definition_it_is_found_with() =>
        Gen.Select(Situations, Definitions)
            .Sample(
                (situation, definition) =>
                {
                    var fitted = situation.FittedTo(definition);
                    Assert.Equal(situation.Phase, fitted.Phase);
                    Assert.Equal(situation.Run?.Number, fitted.Run?.Number);
                    if (situation.Awaited is { Needs.IsEmpty: false })
                        Assert.Equal(
                            definition.Begin.Needs.Select(need => need.Id),
                            fitted.Awaited!.Needs.Select(need => need.Of)
                        );
                    if (situation.Run is { Watched: { IsEmpty: false } watched })
                        Assert.All(
                            fitted.Run!.Watched,
                            (state, i) =>
                            {
                                Assert.Equal(definition.Watch[i].Id, state.Of);
                                // What was seen stays with the watch that saw it.
                                Assert.Equal(
                                    watched.FirstOrDefault(was => was.Of == state.Of)
                                        ?? new WatchState { Of = state.Of },
                                    state
                                );
                            }
                        );
                    // Whoever looks at it, or is late, finds something in it for each place of the definition.
                    Assert.NotEmpty(Explanation.Of(definition, fitted, TimeZoneInfo.Utc));
                    _ = Outlook.Next(definition, fitted).ToList();
                    _ = ServiceLife.Step(definition, fitted, new TimeCame(), DateTimeOffset.MaxValue.AddYears(-100));
                    _ = ServiceLife.Step(definition, fitted, new Resumed(), fitted.Since);
                },
                iter: 2000
            );

    /// <summary>Earlier versions stored what people call a need or a watch: it is read once more, and known by its id from then on.</summary>
    [Fact]
    public void What_was_stored_under_what_people_call_it_stays_with_it() =>
        Gen.Select(Situations, Definitions)
            .Sample(
                (situation, definition) =>
                {
                    var now = situation.FittedTo(definition);
                    var then = now with
                    {
                        Awaited = now.Awaited is { } awaited
                            ? awaited with
                            {
                                Needs =
                                [
                                    .. awaited.Needs.Select(
                                        (need, i) => need with { Of = definition.Begin.Needs[i].InWords }
                                    ),
                                ],
                            }
                            : null,
                        Run = now.Run is { } run
                            ? run with
                            {
                                Watched =
                                [
                                    .. run.Watched.Select(
                                        (watch, i) => watch with { Of = definition.Watch[i].InWords }
                                    ),
                                ],
                            }
                            : null,
                    };
                    var again = then.FittedTo(definition);
                    Assert.Equal(
                        Ids(now.Awaited?.Needs.Select(need => need.Of)),
                        Ids(again.Awaited?.Needs.Select(need => need.Of))
                    );
                    Assert.Equal(now.Run?.Watched ?? [], again.Run?.Watched ?? []);
                }
            );

    private static IEnumerable<string?> Ids(IEnumerable<string?>? all) => all ?? [];

    /// <summary>Two that differ are two, whatever they have in common.</summary>
    [Fact]
    public void Needs_and_watches_that_differ_in_what_they_are_about_differ_in_their_ids() =>
        Definitions.Sample(definition =>
        {
            Assert.Equal(
                definition.Begin.Needs.Select(need => need.InWords).Distinct().Count(),
                definition.Begin.Needs.Select(need => need.Id).Distinct().Count()
            );
            Assert.Equal(
                definition.Watch.Select(watch => watch.InWords).Distinct().Count(),
                definition.Watch.Select(watch => watch.Id).Distinct().Count()
            );
        });

    [Fact]
    public void A_wait_keeps_its_length_when_the_clock_is_set_while_no_server_serves() =>
        Gen.Select(Situations, Gen.OneOf(Gen.Int[-86_400, -2], Gen.Int[2, 86_400]), Gen.Int[0, 100_000])
            .Sample(
                (situation, set, away) =>
                {
                    var saved = new ClockStamp(situation.Since, 5_000);
                    var back = new ClockStamp(
                        situation.Since + TimeSpan.FromMilliseconds(away) + TimeSpan.FromSeconds(set),
                        5_000 + away
                    );
                    var shifted = situation.Shifted(saved.SetSince(back));
                    // Left to wait is what was left, less the time that has really passed.
                    Assert.Equal(
                        situation.WakeAt - saved.Wall - TimeSpan.FromMilliseconds(away),
                        shifted.WakeAt - back.Wall
                    );
                },
                iter: 2000
            );

    /// <summary>Whatever it is told, nothing comes of it: it is given up, and the service goes on without it.</summary>
    [Fact]
    public void A_keeper_that_never_answers_is_given_up_in_a_launch_and_in_a_stop() =>
        Gen.Select(Definitions, Events.Array[0, 60], Gen.Bool)
            .Sample(
                (definition, events, stops) =>
                {
                    var world = new World(definition);
                    foreach (var happens in events)
                        happens(world);
                    if (world.Live is null)
                        world.Happens(new StartAsked(new("anna"), WithoutNeeds: true));
                    // What toggles has a command of its own for each way, and what is on has no keeper.
                    if (world.Live is not { } run || definition.Program.Kind == ProgramKind.Toggles)
                        return;
                    if (stops)
                        world.Happens(new StopAsked(new("anna")));
                    if (world.Situation is not { Phase: Phase.Stopping } and not { Run.Launched: null })
                        return;
                    var most = world.Definition.WindDown.Length + 2;
                    for (var turns = 0; !world.Done.OfType<GiveUpKeeper>().Any(up => up.Run == run); turns++)
                    {
                        Assert.True(turns < most, "it is given up after its waits");
                        Assert.True(world.PassToNextDecision(), "a keeper is never waited for without end");
                    }

                    world.End(new(OutcomeKind.KeeperLost));
                    Assert.NotEqual(run, world.Live);
                },
                iter: 2000
            );

    [Fact]
    public void An_unwrap_stops_first_and_leaves_nothing() =>
        Gen.Select(Definitions, Events.Array[0, 60])
            .Sample(
                (definition, events) =>
                {
                    var world = new World(definition);
                    foreach (var happens in events)
                        happens(world);
                    world.Happens(new UnwrapAsked(new("anna")));
                    world.Happens(new StartAsked(new("bert")));
                    world.Happens(new StopAsked(new("bert")));
                    if (world.Live is not null)
                        world.End(new(OutcomeKind.Signalled, 15));
                    if (world.Live is not null)
                        world.End(new(OutcomeKind.Exited)); // the stop command of what toggles
                    Assert.True(world.Forgotten);
                },
                iter: 1000
            );

    [Fact]
    public void What_detaches_runs_once_its_real_process_is_found_and_falls_with_it()
    {
        var world = new World(Make(BeginAt.Request, RecoverAfter.Failure, 1, 5, 1, ProgramKind.Detaches));
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        world.Happens(new MainEnded(new(1), new(OutcomeKind.Exited)));
        Assert.Equal(Phase.Starting, world.Situation.Phase);
        world.Happens(new MainFound(new(1), 4712));
        Assert.True(world.PassToNextDecision());
        Assert.Equal((Phase.Running, 4712), (world.Situation.Phase, world.Situation.Run!.Pid));
        world.Happens(new MainEnded(new(1), new(OutcomeKind.Signalled, 11)));
        world.End(new(OutcomeKind.Signalled, 11));
        Assert.Equal(Phase.Waiting, world.Situation.Phase);
    }

    [Fact]
    public void What_toggles_is_on_until_its_stop_command_has_run()
    {
        var world = new World(Make(BeginAt.Request, RecoverAfter.Failure, 1, 5, 0, ProgramKind.Toggles));
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        world.End(new(OutcomeKind.Exited));
        Assert.Equal(
            (Phase.Running, new RunNumber(1), null),
            (world.Situation.Phase, world.Situation.Run!.Number, world.Situation.WakeAt)
        );
        world.Happens(new StopAsked(new("anna")));
        Assert.Single(world.Done.OfType<SwitchOff>());
        world.End(new(OutcomeKind.Exited, 3));
        Assert.Equal(Phase.Stopped, world.Situation.Phase); // a stop ends, and says that its command failed
        Assert.Contains(world.Done.OfType<Note>(), note => note.Entry is OffFailedEntry);
    }

    [Fact]
    public void A_program_that_always_falls_at_once_is_tried_with_growing_pauses_and_then_held()
    {
        var world = new World(Usual);
        world.Happens(new MachineBegan());
        var tries = new List<double>();
        var begun = world.Now;
        while (world.Situation.Phase != Phase.Held)
        {
            tries.Add((world.Now - begun).TotalSeconds);
            Assert.True(tries.Count < 10, "it is held in the end");
            world.Launch();
            world.End(new(OutcomeKind.Exited, 3));
            world.PassToNextDecision();
        }

        Assert.Equal([0, 1, 3, 7, 15], tries);
        world.Passes(TimeSpan.FromDays(365));
        world.Happens(new TimeCame());
        Assert.Equal(5, world.Launches);
        world.Happens(new StartAsked(new("anna")));
        Assert.Equal(6, world.Launches);
    }

    [Fact]
    public void A_year_of_daily_falls_is_a_year_of_prompt_restarts()
    {
        var world = new World(Usual);
        world.Happens(new StartAsked(new("anna")));
        for (var day = 0; day < 365; day++)
        {
            world.Launch();
            world.PassToNextDecision();
            Assert.Equal(Phase.Running, world.Situation.Phase);
            world.Passes(TimeSpan.FromDays(1));
            world.End(new(OutcomeKind.Signalled, 11));
            Assert.Equal(TimeSpan.FromSeconds(1), world.Situation.WakeAt - world.Now);
            world.PassToNextDecision();
        }

        Assert.Equal(366, world.Launches);
        Assert.Equal(365, world.Situation.Restarts);
    }

    [Fact]
    public void An_asked_start_that_cannot_launch_rests_and_one_at_boot_is_tried_again()
    {
        var missing = new Outcome(OutcomeKind.NeverLaunched, Detail: "there is no program at /srv/skerry/gate-counter");
        var asked = new World(Usual);
        asked.Happens(new StartAsked(new("anna")));
        asked.End(missing);
        Assert.Equal(Phase.Stopped, asked.Situation.Phase);

        var boot = new World(Usual);
        boot.Happens(new MachineBegan());
        boot.End(missing);
        Assert.Equal(Phase.Waiting, boot.Situation.Phase);
    }

    /// <summary>Who stopped it for a while brings it back: what cannot be launched then is recovered, and not left down.</summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void What_ran_before_and_cannot_be_launched_again_is_tried_again(bool byAnother)
    {
        var world = new World(Usual);
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        if (byAnother)
        {
            world.Happens(new StopAsked(Principal.Drill));
            world.End(new(OutcomeKind.Signalled, 15));
            world.Happens(new StartAsked(Principal.Drill, BringsBack: true));
        }
        else
        {
            world.Happens(new RestartAsked(new("anna")));
            world.End(new(OutcomeKind.Signalled, 15));
        }

        Assert.Equal(2, world.Situation.Run?.Number.Value);
        world.End(new(OutcomeKind.NeverLaunched, Detail: "its output cannot be written: no space left on device"));
        Assert.Equal(Phase.Waiting, world.Situation.Phase);
    }

    /// <summary>Somebody's stop in the middle of a restart of several is the last word, before it is down as after.</summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public void What_a_person_stops_while_it_is_down_for_a_while_is_not_brought_back(bool isDown)
    {
        var (anna, restart) = (new Principal("anna"), new Principal("bo", PrincipalKind.Restart));
        var world = new World(Usual);
        world.Happens(new StartAsked(anna));
        world.Launch();
        world.Happens(new StopAsked(restart));
        if (!isDown)
            world.Happens(new StopAsked(anna));
        world.End(new(OutcomeKind.Signalled, 15));
        if (isDown)
            world.Happens(new StopAsked(anna));
        world.Happens(new StartAsked(restart, BringsBack: true));
        Assert.Equal(Phase.Stopped, world.Situation.Phase);
        Assert.Equal(anna, world.Situation.Asked?.By);
        world.Happens(new StartAsked(anna));
        Assert.Equal(2, world.Situation.Run?.Number.Value);
    }

    [Fact]
    public void When_a_wrapper_script_ends_first_what_it_started_gets_the_signal_too()
    {
        var world = new World(Usual);
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        world.Happens(new StopAsked(new("anna")));
        world.Happens(new MainEnded(new(1), new(OutcomeKind.Signalled, 15)));
        Assert.Equal([false, true], world.Done.OfType<SendSignal>().Select(signal => signal.WholeTree));
        world.End(new(OutcomeKind.Signalled, 15));
        Assert.False(world.Situation.LastEnd!.Forced);
    }

    [Fact]
    public void What_was_lost_with_the_machine_begins_again_only_if_it_begins_at_boot()
    {
        foreach (var (at, launches) in new[] { (BeginAt.Boot, 2), (BeginAt.Request, 1) })
        {
            var world = new World(Usual with { Begin = new() { At = at } });
            world.Happens(new StartAsked(new("anna")));
            world.Launch();
            world.End(new(OutcomeKind.MachineLost));
            world.Happens(new MachineBegan());
            while (world.Live is null && world.PassToNextDecision()) { }

            Assert.Equal(launches, world.Launches);
        }
    }
}
