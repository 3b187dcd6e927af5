using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>What a program asks at its terminal: noticed once, answered so often and no more, told where nobody knows it for too long.</summary>
public class QuestionTests
{
    private static readonly Principal Anna = new("anna");

    private static readonly KnownQuestion Overwrite = new("Overwrite? [y/N] ") { With = "n\n", Most = 2 },
        Prompt = new("> ");

    private static readonly Definition Asking = AnyLife.Usual with
    {
        Program = AnyLife.Usual.Program with { Terminal = true, Answers = [Overwrite, Prompt] },
    };

    private static World Running(Definition definition)
    {
        var world = new World(definition);
        world.Happens(new StartAsked(Anna));
        world.Launch();
        world.PassToNextDecision();
        Assert.Equal(Phase.Running, world.Situation.Phase);
        return world;
    }

    private static void Sees(World world, string? text, long place = 0, bool lasts = true) =>
        world.Happens(new QuestionSeen(world.Live!.Value, text, place, lasts));

    private static List<Entry> Noted(World world) =>
        [
            .. world
                .Done.OfType<Note>()
                .Select(note => note.Entry)
                .Where(entry => entry is QuestionEntry or QuestionOverEntry or QuestionAnsweredEntry),
        ];

    [Fact]
    public void A_question_nobody_knows_is_noticed_once_and_over_when_it_is_gone()
    {
        var world = Running(Asking);
        Assert.Contains(world.Done, deed => deed is LookForQuestion);
        Sees(world, "Which berth? ", 40, lasts: false); // it may be on its way
        Assert.Empty(Noted(world));
        Sees(world, "Which berth? ", 40);
        Sees(world, "Which berth? ", 40);
        Sees(world, "Which berth? 7", 40); // somebody types
        Assert.Equal("It probably asks at its terminal: 'Which berth?'.", Assert.Single(Noted(world)).Text);
        Assert.Contains(
            "It probably asks at its terminal: 'Which berth?' (since ",
            Explanation.Of(world.Definition, world.Situation, TimeZoneInfo.Utc),
            StringComparison.Ordinal
        );
        world.Now = world.Now.AddSeconds(90);
        Sees(world, "Which pier? ", 60);
        Assert.Equal(3, Noted(world).Count);
        world.End(new(CalmSentry.Core.Runs.OutcomeKind.Exited, 0));
        Assert.Equal(4, Noted(world).Count);
        Assert.IsType<QuestionOverEntry>(Noted(world)[^1]);
        Assert.DoesNotContain(world.Done, deed => deed is Note { Tells: true, Entry: QuestionEntry });
    }

    [Fact]
    public void A_known_one_is_answered_so_often_and_then_told()
    {
        var world = Running(Asking);
        for (var i = 1; i <= 3; i++)
        {
            Sees(world, "Overwrite? [y/N] ", i * 100, lasts: false);
            Sees(world, "Overwrite? [y/N] ", i * 100);
        }

        Assert.Equal(2, world.Done.OfType<GiveAnswer>().Count());
        var told = Assert.Single(world.Done.OfType<Note>(), note => note.Tells);
        Assert.Equal(
            "It probably asks at its terminal: 'Overwrite? [y/N]'. That was answered 2 times, as often as it may be.",
            told.Entry.Text
        );
        Assert.Equal(Topic.Asks, told.Entry.TopicIf(tells: true, isJob: false));
        world.Now = world.Now.AddDays(1);
        Sees(world, "Overwrite? [y/N] ", 400);
        Assert.Equal(3, world.Done.OfType<GiveAnswer>().Count());
    }

    [Fact]
    public void An_answer_that_changes_nothing_is_given_once_and_then_it_asks_still()
    {
        var world = Running(Asking);
        Sees(world, "Overwrite? [y/N] ", 100);
        Sees(world, "Overwrite? [y/N] ", 100);
        Assert.Single(Noted(world)); // that it was answered
        world.Now = world.Now.AddSeconds(20);
        Sees(world, "Overwrite? [y/N] ", 100);
        Assert.Single(world.Done.OfType<GiveAnswer>());
        Assert.IsType<QuestionEntry>(Noted(world)[^1]);
    }

    [Fact]
    public void Where_it_waits_when_all_is_well_nothing_is_noticed()
    {
        var world = Running(Asking);
        Sees(world, "harbour> ", 10);
        Assert.Empty(Noted(world));
        Assert.Null(world.Situation.Run!.Question);
    }

    [Fact]
    public void Its_watch_tells_of_it_and_in_a_quiet_time_only_of_what_goes_on()
    {
        var watched = Asking with
        {
            Watch =
            [
                new QuestionWatch(TimeSpan.FromMinutes(2)) { Beat = Watch.UsualSample, Follows = WatchFollow.Tell },
            ],
        };
        foreach (var isOver in (bool[])[false, true])
        {
            var world = Running(watched);
            world.Happens(new QuietAsked(Anna, world.Now.AddMinutes(30)));
            Sees(world, "Which berth? ", 40);
            world.Happens(new WatchSeen(world.Live!.Value, watched.Watch[0], "for 2 min it probably asks", ""));
            if (isOver)
                Sees(world, null);
            world.Happens(new QuietAsked(Anna, world.Now));
            var told = world.Done.OfType<Note>().Where(note => note is { Tells: true, Entry: GoesOnEntry }).ToList();
            if (isOver)
                Assert.Empty(told);
            else
                Assert.Equal(AskedAt.Terminal, Assert.Single(told).Entry.Asks);
        }
    }

    private static void SeesDialog(World world, string? title, long window = 0) =>
        world.Happens(new QuestionSeen(world.Live!.Value, title, window, Lasts: true, AskedAt.Window));

    [Fact]
    public void A_dialog_is_noticed_once_whatever_its_title_becomes_and_answered_by_nothing_known()
    {
        var world = Running(Asking with { Program = Asking.Program with { Window = new(800, 600) } });
        Assert.Contains(world.Done, deed => deed is LookAtWindow);
        SeesDialog(world, "Overwrite? [y/N] ", 7);
        SeesDialog(world, "Overwrite? (2)", 7);
        Assert.DoesNotContain(world.Done, deed => deed is GiveAnswer);
        SeesDialog(world, "", 8);
        SeesDialog(world, null);
        Assert.Equal(
            [
                "It probably asks in a window: 'Overwrite? [y/N]'.",
                "It no longer asks in a window, after 0 s.",
                "It probably asks in a window without a title.",
                "It no longer asks in a window, after 0 s.",
            ],
            world
                .Done.OfType<Note>()
                .Select(note => note.Entry)
                .Where(entry => entry is DialogEntry or DialogOverEntry)
                .Select(entry => entry.Text)
        );
    }

    /// <summary>One watch sees both places: what is left is told for itself when the other is over.</summary>
    [Fact]
    public void What_is_asked_at_both_places_is_told_one_after_the_other()
    {
        var watch = new QuestionWatch(TimeSpan.FromMinutes(2)) { Beat = Watch.UsualSample, Follows = WatchFollow.Tell };
        var world = Running(Asking with { Program = Asking.Program with { Window = new(800, 600) }, Watch = [watch] });
        SeesDialog(world, "Paper", 7);
        world.Now = world.Now.AddMinutes(1);
        Sees(world, "Which berth? ", 40);
        Assert.Equal(AskedAt.Window, world.Situation.Run!.Asks!.Value.At);
        world.Happens(new WatchSeen(world.Live!.Value, watch, "for 2 min it probably asks", ""));
        SeesDialog(world, null);
        Assert.Equal(AskedAt.Terminal, world.Situation.Run!.Asks!.Value.At);
        world.Happens(new WatchSeen(world.Live!.Value, watch, "for 2 min it probably asks", ""));
        Assert.Equal(
            [AskedAt.Window, AskedAt.Terminal],
            world.Done.OfType<Note>().Where(note => note.Tells).Select(note => note.Entry.Asks!.Value)
        );
        Assert.Equal(
            [AskedAt.Window],
            world
                .Done.OfType<Note>()
                .Select(note => note.Entry)
                .OfType<DialogOverEntry>()
                .Select(entry => entry.Asks!.Value)
        );
    }

    /// <summary>Whatever is seen in whatever order: never more answers than may be, and one for each place.</summary>
    [Fact]
    public void No_question_is_answered_twice_and_none_more_often_than_it_may_be() =>
        Gen.Select(Gen.Int[0, 4], Gen.Int[0, 3], Gen.Bool, Gen.Int[0, 7200])
            .Array[1, 60]
            .Sample(all =>
            {
                var world = Running(Asking);
                var given = new List<(DateTimeOffset At, long Place)>();
                string?[] texts = ["Overwrite? [y/N] ", "Which berth? ", null, "> ", "Overwrite? [y/N] n"];
                var place = 0;
                foreach (var (text, moves, lasts, seconds) in all)
                {
                    place += moves == 0 ? 1 : 0; // it wrote something
                    world.Now = world.Now.AddSeconds(moves == 1 ? seconds : 1);
                    var before = world.Done.OfType<GiveAnswer>().Count();
                    Sees(world, texts[text], place, lasts);
                    if (world.Done.OfType<GiveAnswer>().Count() > before)
                        given.Add((world.Now, place));
                }

                Assert.Equal(given.Count, world.Done.OfType<GiveAnswer>().Count());
                foreach (var (at, _) in given)
                    Assert.InRange(
                        given.Count(one => one.At <= at && at - one.At < TimeSpan.FromDays(1)),
                        1,
                        Overwrite.Most
                    );
                var open = 0;
                foreach (var entry in Noted(world))
                {
                    open +=
                        entry is QuestionEntry ? 1
                        : entry is QuestionOverEntry ? -1
                        : 0;
                    Assert.InRange(open, 0, 1);
                }
            });
}
