using CalmSentry.Store;

namespace CalmSentry.Tests.Unit.Store;

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
}
