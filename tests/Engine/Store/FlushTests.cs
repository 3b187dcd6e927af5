using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Store;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>
/// Whoever reads after an answer finds what was written before it; whoever waits for a disk that takes nothing gets on.
/// </summary>
public class FlushTests
{
    [Fact]
    public async Task Settled_means_that_everything_given_before_is_there_to_be_read()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            for (var i = 0; i < 300; i++)
            {
                store.SetFact("tide", $"{i}");
                await store.Settled();
                Assert.Equal($"{i}", store.Fact("tide"));
            }

            Assert.True(store.Settled().IsCompleted); // nothing is under way: nobody waits
        }

        File.Delete(file);
    }

    [Fact]
    public async Task A_store_that_cannot_be_written_keeps_nobody_waiting_and_loses_nothing()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            store.SetFact("tide", "low");
            await store.Flush();
            await using (var other = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False"))
            {
                await other.OpenAsync(TestContext.Current.CancellationToken);
                await using var hold = other.CreateCommand();
                hold.CommandText = "BEGIN IMMEDIATE";
                await hold.ExecuteNonQueryAsync(TestContext.Current.CancellationToken); // nobody else can write now
                store.SetFact("tide", "high");
                await store.Flush(); // gives up waiting, not the write
                Assert.Equal("low", store.Fact("tide"));
                hold.CommandText = "ROLLBACK";
                await hold.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
            }

            while (store.Fact("tide") != "high")
                await store.Flush(soon: false);
            Assert.Null(store.Failure);
        }

        File.Delete(file);
    }

    [Fact]
    public async Task However_long_the_disk_takes_nothing_what_waits_is_bounded_and_where_a_service_stands_is_kept()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            var (id, now) = (store.NextServiceId(), DateTimeOffset.UtcNow);
            store.Add(id, "tide", "{}", Situation.New(now), new("anna"), now);
            await store.Flush();
            await using (var other = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False"))
            {
                await other.OpenAsync(TestContext.Current.CancellationToken);
                await using var hold = other.CreateCommand();
                hold.CommandText = "BEGIN IMMEDIATE";
                await hold.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
                for (var run = 1; run <= SentryStore.MostWaiting; run++)
                {
                    store.Log(now, id, "tide", new FellEntry(new(run), new(OutcomeKind.Exited, 1)), null);
                    store.Save(id, Situation.New(now) with { LastRun = new(run) }, new(now, run));
                }

                Assert.True(store.LeftOut > SentryStore.MostWaiting / 3);
                hold.CommandText = "ROLLBACK";
                await hold.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
            }

            while (store.Services()[0].Situation!.LastRun != SentryStore.MostWaiting)
                await store.Flush(soon: false);
            Assert.InRange(store.Logbook(int.MaxValue).Count, 1, SentryStore.MostWaiting);
        }

        File.Delete(file);
    }

    [Fact]
    public async Task A_write_that_can_never_succeed_keeps_no_other_from_being_kept()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            var (first, second, now) = (store.NextServiceId(), store.NextServiceId(), DateTimeOffset.UtcNow);
            store.SetFact("tide", "low");
            store.Add(first, "board", "{}", Situation.New(now), new("anna"), now);
            store.Add(second, "board", "{}", Situation.New(now), new("anna"), now); // the name is taken
            store.SetFact("tide", "high");
            await store.Kept();
            Assert.Equal("high", store.Fact("tide"));
            Assert.Equal(["board"], store.Services().Select(service => service.Name));
            Assert.Equal(first, store.IdOf("board"));
            Assert.Null(store.Failure);
            Assert.Contains("UNIQUE", store.Refused, StringComparison.Ordinal);
            Assert.True(store.Settled().IsCompleted);
        }

        File.Delete(file);
    }

    [Fact]
    public async Task Where_a_service_stands_cannot_be_read_and_all_else_can()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            var now = DateTimeOffset.UtcNow;
            foreach (var name in (string[])["board", "ledger"])
                store.Add(store.NextServiceId(), name, "{}", Situation.New(now), new("anna"), now);
            await store.Kept();
            await using var other = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={file};Pooling=False");
            await other.OpenAsync(TestContext.Current.CancellationToken);
            await using var damage = other.CreateCommand();
            damage.CommandText = "UPDATE service SET situation = '{\"phase\":' WHERE name = 'board'";
            await damage.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
            Assert.Equal(
                [("board", true), ("ledger", false)],
                store.Services().Select(service => (service.Name, service.Situation is null))
            );
        }

        File.Delete(file);
    }
}
