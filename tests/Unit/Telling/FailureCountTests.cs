using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CsCheck;

namespace CalmSentry.Tests.Unit.Telling;

/// <summary>So many failures within a time are one thing more to know than each of them.</summary>
public class FailureCountTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static readonly Pace Pace = new() { Often = 3, OftenWithin = TimeSpan.FromMinutes(10) };

    [Fact]
    public void It_says_so_exactly_when_there_are_that_many_within_the_time() =>
        Gen.Int[0, 900]
            .List[1, 60]
            .Sample(gaps =>
            {
                var (count, at, all) = (new FailureCount(), Start, new List<DateTimeOffset>());
                for (var i = 0; i < gaps.Count; i++)
                {
                    all.Add(at += TimeSpan.FromSeconds(gaps[i]));
                    var within = all.Count(one => at - one <= Pace.OftenWithin);
                    Assert.Equal(within >= Pace.Often, count.Add(i + 1, "fare-ledger", at, Pace));
                    // Looked at again, as after a step that failed: nothing is counted twice.
                    Assert.Equal(within >= Pace.Often, count.Add(i + 1, "fare-ledger", at, Pace));
                    Assert.False(count.Add(i + 1, $"other-{i}", at, Pace));
                    count.Forget(at, Pace);
                }
            });

    [Fact]
    public void Only_what_is_restarted_counts()
    {
        Assert.True(FailureCount.IsFailure(new(EntryCode.Fell) { Next = EntryNext.Restart }));
        Assert.False(FailureCount.IsFailure(new(EntryCode.Fell) { Next = EntryNext.StaysStopped }));
        Assert.False(FailureCount.IsFailure(new(EntryCode.Ended)));
    }

    /// <summary>Each topic is of an entry that there is, and each says what is so.</summary>
    [Fact]
    public void What_happens_has_its_topic()
    {
        (Entry Entry, bool Tells, Topic? Topic)[] all =
        [
            (new(EntryCode.Proven), false, null),
            (new(EntryCode.Proven) { Count = 2 }, false, Topic.CameBack),
            (new(EntryCode.Unwell) { Next = EntryNext.KeepsRunning }, true, Topic.Poor),
            (new(EntryCode.Unwell), false, null),
            (new(EntryCode.Unwell) { Name = Entry.MemoryGrows }, false, Topic.Memory),
            (new(EntryCode.Unwell) { Name = Entry.MemoryGrows, Next = EntryNext.KeepsRunning }, true, Topic.Memory),
            // It is restarted for that: nobody needs to know but who asks for each restart.
            (new(EntryCode.Unwell) { Name = Entry.MemoryGrows, Next = EntryNext.StopAndRestart }, false, null),
            (new(EntryCode.MemoryWillFill), true, Topic.MachineMemory),
            (new(EntryCode.JobLate), true, Topic.JobLate),
            (new(EntryCode.JobOverdue), true, Topic.JobOverdue),
            (new(EntryCode.RestartFailed), true, Topic.RestartFailed),
            (new(EntryCode.CopySeen), true, Topic.Copy),
            (new(EntryCode.Found), true, Topic.Expiring),
            (new(EntryCode.Found), false, null),
        ];
        foreach (var (entry, tells, topic) in all)
            Assert.Equal(topic, Topics.Of(entry, tells, isJob: false));
        Assert.Equal(Enum.GetValues<Topic>().Length, Enum.GetValues<Topic>().Select(Topics.Clause).Distinct().Count());
    }
}
