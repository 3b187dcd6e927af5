using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Tests.Core.Entries;

public class StoryTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static List<StoryEntry> Record(params IEnumerable<Entry> entries) =>
        [
            .. entries.Select(
                (entry, i) =>
                    new StoryEntry(
                        Start.AddSeconds(i),
                        entry,
                        entry is StartAskedEntry or StopAskedEntry or ReleasedEntry ? "anna" : null
                    )
            ),
        ];

    private static FellEntry Fell(long run, Outcome outcome, EntryNext next = EntryNext.Restart) =>
        new FellEntry(new(run), outcome) { Next = next, Pause = TimeSpan.FromSeconds(1) };

    [Fact]
    public void It_begins_with_the_last_word_of_a_person_and_leaves_out_what_came_before()
    {
        var steps = Story.Of(
            Record(
                new StartAskedEntry(),
                Fell(1, new(OutcomeKind.Exited, 3)),
                new StopAskedEntry(new(2)),
                new StoppedEntry(new(2), new(OutcomeKind.Signalled, 15))
            )
        );
        Assert.Equal(
            [("Stop requested.", "anna"), ("Run 2 was killed by signal TERM.", null)],
            steps.Select(step => (step.Text, step.By))
        );
    }

    [Fact]
    public void What_the_machine_did_begins_a_chapter_too() =>
        Assert.All(
            new Entry[]
            {
                new BootBeganEntry(),
                new DrillBeganEntry(),
                new LostEntry(new(1), new(OutcomeKind.MachineLost)),
            },
            entry => Assert.Equal(2, Story.Of(Record(new StartAskedEntry(), entry, new LaunchedEntry(new(2), 7))).Count)
        );

    [Fact]
    public void Many_rounds_of_failing_are_one_step_with_the_ways_it_failed()
    {
        var rounds = Enumerable
            .Range(1, 40)
            .SelectMany(run =>
                new Entry[]
                {
                    new LaunchedEntry(new(run), run),
                    new ProvenEntry(new(run), "it answered", null, null, null),
                    Fell(
                        run,
                        run % 4 == 0
                            ? new(OutcomeKind.Signalled, 11, Detail: $"its memory was {run} MiB")
                            : new(OutcomeKind.Exited, 3)
                    ),
                }
            );
        var steps = Story.Of(
            Record([
                new StartAskedEntry(),
                .. rounds,
                new HeldEntry(null, null) { Failures = 5, Within = TimeSpan.FromMinutes(10) },
                new LaunchedEntry(new(41), 41),
            ])
        );
        Assert.Equal(4, steps.Count);
        Assert.Equal(40, steps[1].Times);
        Assert.StartsWith(
            "Failed 40 times, and was restarted each time: 30 times it exited with code 3, 10 times it was killed by signal SEGV (bad "
                + "memory access). The last time: Run 40 ",
            steps[1].Text,
            StringComparison.Ordinal
        );
        Assert.Equal("Held after 5 failures within 10 min. 'calm release' or a start tries it again.", steps[2].Text);
    }

    [Fact]
    public void Twenty_tries_on_hold_are_one_line()
    {
        var tries = Enumerable
            .Range(1, 20)
            .SelectMany(run =>
                new Entry[]
                {
                    new RetriedEntry(TimeSpan.FromMinutes(30)),
                    new LaunchedEntry(new(run), run),
                    Fell(run, new(OutcomeKind.Exited, 3), EntryNext.Nothing),
                    new HeldEntry(null, TimeSpan.FromMinutes(30)) { Again = true },
                }
            );
        var steps = Story.Of(Record([new StartAskedEntry(), .. tries]));
        Assert.Equal(2, steps.Count);
        Assert.Equal(
            "Tried again 20 times while on hold, in vain: it exited with code 3 each time. The last time: Run 20 "
                + "exited with code 3.",
            steps[1].Text
        );
    }

    [Fact]
    public void Entries_of_earlier_versions_are_told_by_their_own_sentence()
    {
        var steps = Story.Of(
            Record(
                new OtherEntry(EntryKinds.Of<StartAskedEntry>(), EntryFields.None, "Start asked for."),
                new OtherEntry(EntryKinds.Other, EntryFields.None, "Something that is written no more.")
            )
        );
        Assert.Equal(["Start asked for.", "Something that is written no more."], steps.Select(step => step.Text));
    }

    [Fact]
    public void A_very_long_chapter_keeps_its_beginning_and_its_end()
    {
        var steps = Story.Of(
            Record([new StartAskedEntry(), .. Enumerable.Range(1, 500).Select(i => new AdjustedEntry(i, []))])
        );
        Assert.Equal(40, steps.Count);
        Assert.Equal(("Start requested.", "Revision 500: no effective change."), (steps[0].Text, steps[^1].Text));
    }
}
