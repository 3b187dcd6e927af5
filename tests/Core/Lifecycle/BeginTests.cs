using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>From the word to begin until the proof, case by case.</summary>
public class BeginTests
{
    private static readonly ServiceNeed Tide = new("tide-store", IfLost.Leave);

    private static World Of(BeginPart begin, bool hasRoom = true) =>
        new(
            new Definition
            {
                Name = "board",
                Title = "Board",
                Identity = new("skerry"),
                Program = new("/srv/skerry/board", [], null, ImmutableSortedDictionary<string, string>.Empty),
                Begin = begin,
            }
        )
        {
            HasRoom = hasRoom,
        };

    private static void Sees(World world, params string?[] missing) => world.Happens(new NeedsSeen([.. missing]));

    [Fact]
    public void What_begins_late_waits_for_all_of_boot_or_its_latest()
    {
        var settled = Of(new() { At = BeginAt.BootLate });
        settled.Happens(new MachineBegan());
        Assert.Equal((Phase.Waiting, AwaitStep.Boot), (settled.Situation.Phase, settled.Situation.Awaited!.Step));
        settled.Happens(new BootSettled());
        Assert.Equal(1, settled.Launches);

        var never = Of(new() { At = BeginAt.BootLate, AtLatest = TimeSpan.FromSeconds(30) });
        never.Happens(new MachineBegan());
        var begun = never.Now;
        never.PassToNextDecision();
        Assert.Equal((1, TimeSpan.FromSeconds(30)), (never.Launches, never.Now - begun));
    }

    [Fact]
    public void Needs_count_only_when_all_are_met_in_one_look()
    {
        var world = Of(new() { Needs = [Tide, new PathNeed("/mnt", false, false)] });
        world.Happens(new StartAsked(new("anna")));
        Sees(world, null, "it is not there");
        Sees(world, "it is stopping", null);
        Assert.Equal(0, world.Launches);
        world.Passes(TimeSpan.FromSeconds(2));
        Sees(world, null, null);
        Assert.Equal(1, world.Launches);
        Assert.Equal(
            [TimeSpan.FromSeconds(2), TimeSpan.Zero],
            world.Situation.Run!.Waited.Select(waited => waited.Length)
        );
    }

    [Fact]
    public void Limits_are_kept_one_by_one_and_the_first_hold_ends_the_wait()
    {
        var world = Of(
            new()
            {
                Needs =
                [
                    Tide with
                    {
                        Within = TimeSpan.FromSeconds(10),
                    },
                    new NetworkNeed(null) { Within = TimeSpan.FromSeconds(20), Follows = NeedFollow.GoAhead },
                    new PathNeed("/mnt", true, false) { Within = TimeSpan.FromSeconds(30), Follows = NeedFollow.Hold },
                ],
            }
        );
        world.Happens(new StartAsked(new("anna")));
        Sees(world, "it is stopped", "no route", "nothing is mounted there");
        foreach (var told in new[] { typeof(NeedMissingEntry), typeof(NeedPassedOverEntry), typeof(HeldEntry) })
        {
            Assert.True(world.PassToNextDecision());
            Assert.IsType(told, world.Done.OfType<Note>().Last().Entry);
        }

        Assert.Equal((Phase.Held, 0), (world.Situation.Phase, world.Launches));
        Assert.Contains("nothing is mounted there", world.Situation.HeldFor, StringComparison.Ordinal);
    }

    [Fact]
    public void Whom_a_person_asked_for_waits_for_no_turn()
    {
        var boot = Of(new() { At = BeginAt.Boot }, hasRoom: false);
        boot.Happens(new MachineBegan(Cause.Drill));
        Assert.Equal(0, boot.Launches);
        boot.Happens(new StartAsked(new("anna")));
        Assert.Equal(1, boot.Launches);
    }

    [Theory]
    [InlineData(IfLost.Leave, Phase.Running, 0)]
    [InlineData(IfLost.Restart, Phase.Running, 1)]
    [InlineData(IfLost.GoDown, Phase.Stopping, 1)]
    public void When_a_needed_service_is_lost_the_dependent_does_as_it_is_set(IfLost ifLost, Phase then, int signals)
    {
        var world = Of(new() { Needs = [Tide with { IfLost = ifLost }] });
        world.Happens(new StartAsked(new("anna")));
        Sees(world, (string?)null);
        world.Launch();
        world.PassToNextDecision();
        world.Happens(new NeededLost("tide-store"));
        world.Happens(new NeededLost("somebody-else"));
        Assert.Equal(then, world.Situation.Phase);
        world.Happens(new NeededBack("tide-store"));
        Assert.Equal(signals, world.Done.OfType<SendSignal>().Count());
        if (signals == 0)
            return;
        world.End(new(OutcomeKind.Signalled, 15));
        Assert.Equal(Phase.Waiting, world.Situation.Phase);
        Sees(world, (string?)null);
        Assert.Equal((2, 0), (world.Launches, world.Situation.BadEnds.Length)); // its end was no fall
    }

    [Fact]
    public void A_proof_that_does_not_come_is_a_bad_end_however_the_program_then_ends()
    {
        var world = Of(new() { Proof = new TcpProof("127.0.0.1:7411") { Within = TimeSpan.FromSeconds(20) } });
        world.Happens(new StartAsked(new("anna")));
        world.Launch();
        world.Happens(new ProofMissing(new(1), "nobody takes connections at 127.0.0.1:7411"));
        world.PassToNextDecision();
        Assert.Equal(Phase.Stopping, world.Situation.Phase);
        world.End(new(OutcomeKind.Exited));
        Assert.Equal(
            (OutcomeKind.NotProven, Phase.Waiting, 1),
            (world.Situation.LastEnd!.Outcome.Kind, world.Situation.Phase, world.Situation.BadEnds.Length)
        );
        world.PassToNextDecision();
        world.Launch();
        world.Happens(new Proven(new(2), "127.0.0.1:7411 takes connections"));
        Assert.Equal(Phase.Running, world.Situation.Phase);
    }

    [Fact]
    public void What_waits_when_the_server_comes_back_is_looked_at_again()
    {
        var world = Of(new() { Needs = [Tide] });
        world.Happens(new StartAsked(new("anna")));
        var since = world.Situation.Awaited!.Since;
        world.Passes(TimeSpan.FromMinutes(1));
        world.Happens(new Resumed());
        Assert.Equal((2, since), (world.Done.OfType<LookAtNeeds>().Count(), world.Situation.Awaited!.Since));
    }
}
