using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Wording;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>
/// The laws of a service's life, held against random lives. <see cref="World"/> checks most of them at every step.
/// </summary>
public class LawsTests
{
    [Fact]
    public void A_command_is_due_after_so_many_failures_and_once_until_a_run_was_steady()
    {
        var usual = AnyLife.Usual;
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

    [Fact]
    public void Every_life_keeps_the_laws_over_a_million_steps()
    {
        var steps = 0L;
        Gen.Select(AnyLife.Definitions, AnyLife.Events.Array[1, 120])
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
        Gen.Select(
                AnyLife.Definitions,
                AnyLife.Events.Array[0, 40],
                AnyLife.Events.Array[1, 40],
                AnyLife.Events.Array[1, 40]
            )
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
        Gen.Select(AnyLife.Definitions, AnyLife.Events.Array[0, 60])
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
        Gen.Select(AnyLife.Situations, AnyLife.Definitions)
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
        Gen.Select(AnyLife.Situations, AnyLife.Definitions)
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
        AnyLife.Definitions.Sample(definition =>
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
        Gen.Select(AnyLife.Situations, Gen.OneOf(Gen.Int[-86_400, -2], Gen.Int[2, 86_400]), Gen.Int[0, 100_000])
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
        Gen.Select(AnyLife.Definitions, AnyLife.Events.Array[0, 60], Gen.Bool)
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
        Gen.Select(AnyLife.Definitions, AnyLife.Events.Array[0, 60])
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
        var world = new World(AnyLife.Make(BeginAt.Request, RecoverAfter.Failure, 1, 5, 1, ProgramKind.Detaches));
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
        var world = new World(AnyLife.Make(BeginAt.Request, RecoverAfter.Failure, 1, 5, 0, ProgramKind.Toggles));
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
        var world = new World(AnyLife.Usual);
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
        var world = new World(AnyLife.Usual);
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
        var asked = new World(AnyLife.Usual);
        asked.Happens(new StartAsked(new("anna")));
        asked.End(missing);
        Assert.Equal(Phase.Stopped, asked.Situation.Phase);

        var boot = new World(AnyLife.Usual);
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
        var world = new World(AnyLife.Usual);
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
        var world = new World(AnyLife.Usual);
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
        var world = new World(AnyLife.Usual);
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
            var world = new World(AnyLife.Usual with { Begin = new() { At = at } });
            world.Happens(new StartAsked(new("anna")));
            world.Launch();
            world.End(new(OutcomeKind.MachineLost));
            world.Happens(new MachineBegan());
            while (world.Live is null && world.PassToNextDecision()) { }

            Assert.Equal(launches, world.Launches);
        }
    }
}
