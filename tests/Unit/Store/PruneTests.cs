using CalmSentry.Core.Availability;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Store;

namespace CalmSentry.Tests.Unit.Store;

/// <summary>
/// What is kept stays bounded, however long a program keeps falling; what people asked for and what came last stays.
/// </summary>
public class PruneTests
{
    private const int Most = 10;

    private static readonly DateTimeOffset Now = new(2026, 11, 1, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public async Task Only_what_is_too_old_or_too_much_is_dropped()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            var oldest = Now - TimeSpan.FromDays(400);
            store.Log(oldest - TimeSpan.FromDays(1), "gone", "wrapped", "Wrapped.", "root");
            store.Log(oldest, "gate", "wrapped", "Wrapped.", "root");
            for (var i = 0; i < 7 * Most; i++)
            {
                store.Log(Now, "gate", "ended", $"Run {i} ended.", null);
                store.AddMoment("gate", new(Now, "waiting", "unknown", ServiceTime.Fallen, $"Run {i} ended.", ""));
                store.RunBegan("gate", new LiveRun(i + 1, Cause.Recovery, Now), 1, 0, "recovery", null);
            }

            store.Log(Now, "board", "ended", "Run 1 ended.", null);
            store.AddMoment(
                "board",
                new(oldest - TimeSpan.FromDays(1), "stopped", "unknown", ServiceTime.Planned, "Stopped.", "")
            );
            store.SetBeginning(oldest - TimeSpan.FromDays(2), "boot", "1");
            store.SetBeginning(oldest - TimeSpan.FromDays(1), "boot", "2");
            store.SetBeginning(oldest - TimeSpan.FromDays(3), "drill", "3");
            foreach (var service in new[] { "gate", "board" })
                store.Prune(service, oldest, Most);
            store.Prune(oldest);
            await store.Flush();

            var entries = store.Logbook(null, 1000, (_, _, service, _, text, by, _) => (service, text, by));
            Assert.Equal((5 * Most) + 2, entries.Count);
            Assert.Equal(("gate", "Wrapped.", "root"), entries[0]);
            Assert.Equal(("gate", $"Run {(7 * Most) - 1} ended.", null), entries[^2]);
            Assert.Equal("board", entries[^1].service);
            Assert.Equal(
                Enumerable.Range((6 * Most) + 1, Most).Select(i => (long)i),
                store.Runs("gate", 1000).Select(run => run.Number).Order()
            );
            Assert.Equal("stopped", store.MomentAt("board", Now)?.State);
            Assert.Equal(("2", "3"), (store.Beginning("boot"), store.Beginning("drill")));
        }

        File.Delete(file);
    }
}
