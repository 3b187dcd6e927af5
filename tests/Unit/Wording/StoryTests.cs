using CalmSentry.Core.Wording;

namespace CalmSentry.Tests.Unit.Wording;

public class StoryTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static List<StoryEntry> Entries(params (string What, string Text)[] entries) =>
        [
            .. entries.Select(
                (entry, i) =>
                    new StoryEntry(
                        Start.AddSeconds(i),
                        entry.What,
                        entry.Text,
                        entry.What.EndsWith("-asked", StringComparison.Ordinal) ? "anna" : null
                    )
            ),
        ];

    [Fact]
    public void It_begins_with_the_last_word_of_a_person_and_leaves_out_what_came_before()
    {
        var steps = Story.Of(
            Entries(
                ("start-asked", "Start asked for."),
                ("fell", "Run 1 fell."),
                ("stop-asked", "Stop asked for."),
                ("stopped", "Run 2 was ended by signal TERM.")
            ),
            out var began
        );
        Assert.True(began);
        Assert.Equal(
            [("Stop asked for.", "anna"), ("Run 2 was ended by signal TERM.", null)],
            steps.Select(step => (step.Text, step.By))
        );
    }

    [Fact]
    public void Many_rounds_of_falling_are_told_as_one_with_the_ways_it_fell()
    {
        var rounds = Enumerable
            .Range(1, 40)
            .SelectMany(run =>
                new[]
                {
                    ("launched", $"Run {run} launched as pid {run}."),
                    ("proven", $"Run {run} is proven: it answered."),
                    (
                        "fell",
                        $"Run {run} {(run % 4 == 0 ? "was ended by signal SEGV (bad memory access)" : "ended by itself with exit code 3")}; "
                            + $"next try in {run} s."
                    ),
                }
            );
        var steps = Story.Of(
            Entries([
                ("start-asked", "Start asked for."),
                .. rounds,
                ("held", "On hold: 5 bad ends within 10 min."),
                ("launched", "Run 41 launched as pid 41."),
            ]),
            out _
        );
        Assert.Equal(4, steps.Count);
        Assert.Equal(40, steps[1].Times);
        Assert.StartsWith(
            "It fell 40 times and was begun again: 30 times it ended by itself with exit code 3, 10 times it was "
                + "ended by signal SEGV (bad memory access).",
            steps[1].Text,
            StringComparison.Ordinal
        );
        Assert.Equal("On hold: 5 bad ends within 10 min.", steps[2].Text);
    }

    [Fact]
    public void A_very_long_chapter_keeps_its_beginning_and_its_end()
    {
        var steps = Story.Of(
            Entries([
                ("start-asked", "Start asked for."),
                .. Enumerable.Range(1, 500).Select(i => ("adjusted", $"Revision {i}.")),
            ]),
            out _
        );
        Assert.Equal(40, steps.Count);
        Assert.Equal(("Start asked for.", "Revision 500."), (steps[0].Text, steps[^1].Text));
    }
}
