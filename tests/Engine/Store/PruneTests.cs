using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Store;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>
/// What is kept stays bounded, however long a program keeps falling; what people asked for and what came last stays.
/// </summary>
public class PruneTests
{
    private const int Most = 10;

    private static readonly ServiceId Gate = new(1),
        Board = new(2);

    private static readonly DateTimeOffset Now = new(2026, 11, 1, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public async Task Only_what_is_too_old_or_too_much_is_dropped()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            var oldest = Now - TimeSpan.FromDays(400);
            store.Log(
                oldest - TimeSpan.FromDays(1),
                null,
                "gone",
                new WrappedEntry("/srv/gate", "quay"),
                new Principal("root")
            );
            store.Log(oldest, Gate, "gate", new WrappedEntry("/srv/gate", "quay"), new Principal("root"));
            for (var i = 0; i < 7 * Most; i++)
            {
                store.Log(Now, Gate, "gate", new EndedEntry(new(i), new(OutcomeKind.Exited)), null);
                store.AddMoment(Gate, new(Now, "waiting", "unknown", ServiceTime.Fallen, 1, null));
                store.RunBegan(Gate, new LiveRun(new(i + 1), Cause.Recovery, Now), 1, 0, "recovery", null);
            }

            store.Log(Now, Board, "board", new EndedEntry(new(1), new(OutcomeKind.Exited)), null);
            store.AddMoment(
                Board,
                new(oldest - TimeSpan.FromDays(1), "stopped", "unknown", ServiceTime.Planned, 1, null)
            );
            store.SetReport(Report(ReportKind.Boot, oldest - TimeSpan.FromDays(2)));
            store.SetReport(Report(ReportKind.Boot, oldest - TimeSpan.FromDays(1)));
            store.SetReport(Report(ReportKind.Drill, oldest - TimeSpan.FromDays(3)));
            await store.Flush(); // what is let go is what is on record
            foreach (var service in new[] { Gate, Board })
                store.Prune(service, oldest, Most);
            store.Prune(oldest);
            await store.Flush();
            var cut = store.Cut(oldest, 1000)!.Value;
            store.Log(Now, null, null, cut.Tells, null);
            cut.Drop();
            await store.Flush();
            Assert.Null(store.Cut(oldest, 1000)); // nothing more to drop
            Assert.Null(store.Prove().Why);

            var entries = store.Logbook(1000);
            Assert.IsType<LogbookCutEntry>(entries[^1].Entry);
            // Of what was emptied an entry tells.
            entries = [.. entries.SkipLast(1).Where(one => one.Entry is not LogbookEmptiedEntry)];
            Assert.Equal((5 * Most) + 2, entries.Count);
            Assert.Equal(
                ("gate", EntryKinds.Of<WrappedEntry>(), "root"),
                (entries[0].Service, entries[0].Entry.Kind, entries[0].By)
            );
            Assert.Equal(("gate", (7 * Most) - 1L), (entries[^2].Service, entries[^2].Entry.Fields.Run?.Value));
            Assert.Equal("board", entries[^1].Service);
            Assert.Equal(
                Enumerable.Range((6 * Most) + 1, Most).Select(i => (long)i),
                store.Runs(Gate, 1000).Select(run => run.Number.Value).Order()
            );
            Assert.Equal("stopped", store.MomentAt(Board, Now)?.State);
            Assert.Equal(oldest - TimeSpan.FromDays(1), store.Report(ReportKind.Boot)?.Began);
            Assert.Equal(oldest - TimeSpan.FromDays(3), store.Report(ReportKind.Drill)?.Began);
            Assert.Null(store.Report(ReportKind.Start));
        }

        File.Delete(file);
    }

    private static StartReport Report(ReportKind kind, DateTimeOffset began) =>
        new()
        {
            Kind = kind,
            Began = began,
            Done = true,
            Took = TimeSpan.Zero,
            Services = [],
        };
}
