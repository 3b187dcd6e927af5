using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Telling;
using CsCheck;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>So many failures within a time are one thing more to know than each of them.</summary>
public class FailureCountTests
{
    private static readonly FellEntry Fell = new(new(1), new(OutcomeKind.Exited, 1));

    private static readonly ProvenEntry Proven = new(new(1), "it answers", null, null, null);

    private static readonly UnwellEntry Unwell = new(new(1), "it answered 503", null, 1, UnwellOf.Health);

    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static readonly Pace Pace = new() { Often = 3, OftenWithin = TimeSpan.FromMinutes(10) };

    [Fact]
    public void It_says_so_exactly_when_there_are_that_many_within_the_time() =>
        Gen.Int[0, 900]
            .List[1, 60]
            .Sample(gaps =>
            {
                var (count, at, all) = (FailureCount.None, Start, new List<DateTimeOffset>());
                for (var i = 0; i < gaps.Count; i++)
                {
                    all.Add(at += TimeSpan.FromSeconds(gaps[i]));
                    var within = all.Count(one => at - one <= Pace.OftenWithin);
                    (count, var often) = count.With("fare-ledger", at, Pace);
                    Assert.Equal(within >= Pace.Often, often);
                    (count, often) = count.With($"other-{i}", at, Pace);
                    Assert.False(often);
                    count = count.Lately(at, Pace);
                }
            });

    [Fact]
    public void Only_what_is_restarted_counts()
    {
        Assert.True(FailureCount.IsFailure(Fell with { Next = EntryNext.Restart }));
        // One that is restarted after any end and ended with success did not fail.
        var ended = new FellEntry(new(1), new(OutcomeKind.Exited, 0)) { Next = EntryNext.Restart };
        Assert.False(FailureCount.IsFailure(ended));
        Assert.Null(ended.TopicIf(tells: false, isJob: false));
        Assert.False(FailureCount.IsFailure(Fell with { Next = EntryNext.StaysStopped }));
        Assert.False(FailureCount.IsFailure(new EndedEntry(new(1), new(OutcomeKind.Exited))));
    }

    /// <summary>Each topic is of an entry that there is, and each says what is so.</summary>
    [Fact]
    public void What_happens_has_its_topic()
    {
        (Entry Entry, bool Tells, Topic? Topic)[] all =
        [
            (Proven, false, null),
            (Proven with { Restarts = 2 }, false, Topic.CameBack),
            (Unwell with { Next = EntryNext.KeepsRunning }, true, Topic.Poor),
            (Unwell, false, null),
            (Unwell with { Of = UnwellOf.Memory }, false, Topic.Memory),
            (Unwell with { Of = UnwellOf.Memory, Next = EntryNext.KeepsRunning }, true, Topic.Memory),
            // It is restarted for that: nobody needs to know but who asks for each restart.
            (Unwell with { Of = UnwellOf.Memory, Next = EntryNext.StopAndRestart }, false, null),
            (new MemoryWillFillEntry(TimeSpan.Zero, "1 GiB"), true, Topic.MachineMemory),
            (new JobLateEntry(default, null, TimeSpan.Zero, "it waits"), true, Topic.JobLate),
            (new JobOverdueEntry(default, TimeSpan.Zero), true, Topic.JobOverdue),
            (new RestartFailedEntry(new(1), new(OutcomeKind.Exited, 1), default), true, Topic.RestartFailed),
            (new CopySeenEntry(7, "pid 7"), true, Topic.Copy),
            (new FoundEntry("certificate", "it ends"), true, Topic.Expiring),
            (new FoundEntry("certificate", "it ends"), false, null),
        ];
        foreach (var (entry, tells, topic) in all)
            Assert.Equal(topic, entry.TopicIf(tells, isJob: false));
        Assert.Equal(
            Enum.GetValues<Topic>().Length,
            Enum.GetValues<Topic>().Select(topic => Topics.Of(topic).Clause).Distinct().Count()
        );
    }
}
