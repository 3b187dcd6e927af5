using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>While it is quiet nothing is told, and at its end all that was withheld is.</summary>
public class QuietTests
{
    private static readonly Principal Anna = new("anna");

    private static readonly Outcome Failed = new(OutcomeKind.Exited, 1);

    private static World Running(Definition definition)
    {
        var world = new World(definition);
        world.Happens(new StartAsked(Anna));
        Up(world);
        return world;
    }

    private static void Up(World world)
    {
        world.Launch();
        world.PassToNextDecision();
        Assert.Equal(Phase.Running, world.Situation.Phase);
    }

    private static List<Note> Told(World world) => [.. world.Done.OfType<Note>().Where(note => note.Tells)];

    [Fact]
    public void What_is_withheld_is_listed_at_its_end()
    {
        var world = Running(AnyLife.Usual with { Recover = new() { HoldEnds = 1 } });
        world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30), Reason: "a new printer"));
        world.End(Failed);
        Assert.Equal(Phase.Held, world.Situation.Phase);
        Assert.Empty(Told(world));
        Assert.True(world.PassToNextMoment());
        Assert.Null(world.Situation.Quiet);
        // It is still on hold: that is told as what it is, and not as something that was.
        var goes = Assert.Single(Told(world)).Entry;
        Assert.Equal(Topic.Held, goes.TopicIf(tells: true, isJob: false));
        Assert.Contains("Held after", goes.Text, StringComparison.Ordinal);

        world = Running(AnyLife.Usual with { Recover = new() { HoldEnds = 1 } });
        world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30)));
        world.End(Failed);
        world.Happens(new StartAsked(Anna));
        Up(world);
        world.Happens(new PersonAsked("It asks for a person: paper is out"));
        world.Happens(new PersonAsked("It asks for a person: ink is out"));
        world.Happens(new QuietAsked(Anna, world.Now));
        Assert.Collection(
            Told(world).Select(note => note.Entry),
            over => Assert.Equal(1, Assert.IsType<QuietOverEntry>(over).Count),
            asks =>
                Assert.Equal(
                    (Topic.Asks, true),
                    (((GoesOnEntry)asks).About, asks.Text.Contains("ink", StringComparison.Ordinal))
                )
        );

        world = Running(AnyLife.Usual);
        world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30)));
        world.Happens(new PersonAsked("It asks for a person: paper is out"));
        world.Happens(new PersonAnswered());
        world.Happens(new QuietAsked(Anna, world.Now));
        Assert.IsType<QuietOverEntry>(Assert.Single(Told(world)).Entry);
    }

    [Fact]
    public void With_nothing_withheld_nobody_is_told_of_its_end()
    {
        var world = Running(AnyLife.Usual);
        world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30)));
        world.Happens(new QuietAsked(Anna, world.Now));
        Assert.Null(world.Situation.Quiet);
        Assert.Empty(Told(world));
    }

    [Fact]
    public void What_falls_meanwhile_is_started_again_at_its_end_where_nothing_is_to_be_restarted()
    {
        var world = Running(AnyLife.Usual);
        var until = world.Now.AddMinutes(30);
        world.Happens(new QuietAsked(Anna, until, NoRestarts: true));
        world.End(Failed);
        Assert.Equal((Phase.Waiting, until), (world.Situation.Phase, world.Situation.WakeAt));
        world.PassToNextMoment();
        world.PassToNextDecision();
        Assert.Equal(2, world.Launches);

        world = Running(AnyLife.Usual);
        world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30), NoRestarts: true));
        world.End(Failed);
        world.Happens(new QuietAsked(Anna, world.Now)); // over sooner
        world.PassToNextDecision();
        Assert.Equal(2, world.Launches);
    }

    [Fact]
    public void A_person_may_start_what_is_quiet()
    {
        var world = Running(AnyLife.Usual);
        world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30), NoRestarts: true));
        world.End(Failed);
        world.Happens(new StartAsked(Anna));
        Assert.Equal(2, world.Launches);
    }

    [Fact]
    public void A_planned_quiet_time_comes_and_goes_by_the_clock_also_where_its_moment_was_missed()
    {
        Assert.True(RhythmWords.TryRead("daily at 10:00", out var ten));
        var planned = new PlannedQuiet(ten!)
        {
            For = TimeSpan.FromHours(1),
            Spread = TimeSpan.Zero,
            Zone = "UTC",
        };
        var world = Running(AnyLife.Usual with { Rhythm = [planned] });
        world.PassToNextMoment();
        Assert.Equal((10, 11), (world.Now.Hour, world.Situation.Quiet!.Until.Hour));
        world.PassToNextMoment();
        Assert.Equal((11, (QuietTime?)null), (world.Now.Hour, world.Situation.Quiet));

        world.Passes(TimeSpan.FromHours(23.5));
        world.Happens(new CalendarCame());
        Assert.Equal(11, world.Situation.Quiet!.Until.Hour); // what is left of it
    }
}
