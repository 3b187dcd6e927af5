using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;
using CalmSentry.Store;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>Alerts, their messages and how far the logbook was looked at go on record as one, and are there again afterwards.</summary>
public sealed class ToldTests : IDisposable
{
    private static readonly DateTimeOffset At = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static readonly ClockStamp Frame = new(At, 5_000);

    private readonly DirectoryInfo place = Directory.CreateTempSubdirectory("calm's told ");

    private string Database => Path.Combine(place.FullName, "sentry.db");

    private static Alert AlertOf(long number) =>
        new()
        {
            Number = number,
            Cause = AlertCause.Of($"service-{number}"),
            Began = At,
            Joined = At,
            Affected = [new($"service-{number}", "It's", At, number, "x", Topic.Held)],
        };

    private static StoredMessage MessageOf(long number, string recipient = "office") =>
        new(
            number,
            $"id-{number}",
            1,
            recipient,
            At.AddSeconds(number),
            MessageState.Waiting,
            0,
            null,
            null,
            MessageWords.Of(AlertOf(1), MessageKind.Begins, null, "quay-host", At, TimeZoneInfo.Utc)
        );

    [Fact]
    public async Task What_was_told_is_there_again()
    {
        await using (var store = SentryStore.Open(Database))
        {
            Assert.Null(store.ToldUpTo);
            store.SetTold([AlertOf(1), AlertOf(2)], [MessageOf(1), MessageOf(2), MessageOf(3)], 17, Frame);
            store.SetTold([AlertOf(1) with { OverAt = At.AddHours(1) }], [], 18, Frame);
            store.SetMessage(
                MessageOf(2) with
                {
                    State = MessageState.Delivered,
                    Tries = 2,
                    Tried = At,
                    Answer = "it's in the box",
                }
            );
            await store.Kept();
        }

        await using var again = SentryStore.Open(Database);
        Assert.Equal(18, again.ToldUpTo);
        Assert.Equal((2, 3), again.LastTold);
        Assert.Equal([2, 1], again.Alerts(10).Select(one => one.Alert.Number));
        Assert.Equal(At.AddHours(1), again.Alert(1)?.OverAt);
        Assert.Equal(Frame, again.Alerts(1)[0].Saved);
        Assert.Equal([1, 3], again.WaitingMessages().Select(one => one.Number));
        var delivered = again.Messages(10, alert: 1).Single(one => one.State == MessageState.Delivered);
        Assert.Equal(("id-2", 2, "it's in the box"), (delivered.Id, delivered.Tries, delivered.Answer));
        Assert.Equal("It's is on hold", delivered.Message?.Subject);
        Assert.Empty(again.Messages(10, alert: 2));
    }

    /// <summary>A message whose number there is already is refused with all that came with it.</summary>
    [Fact]
    public async Task A_step_that_cannot_be_written_leaves_nothing_of_it()
    {
        await using var store = SentryStore.Open(Database);
        store.SetTold([AlertOf(1)], [MessageOf(1)], 17, Frame);
        await store.Kept();
        store.SetTold([AlertOf(2)], [MessageOf(2), MessageOf(1)], 30, Frame);
        store.SetTold([AlertOf(3)], [], 31, Frame);
        await store.Kept();
        Assert.NotNull(store.Refused);
        Assert.Equal([3, 1], store.Alerts(10).Select(one => one.Alert.Number));
        Assert.Equal([1], store.WaitingMessages().Select(one => one.Number));
        Assert.Equal(31, store.ToldUpTo);
    }

    [Fact]
    public async Task What_cannot_be_read_keeps_nobody_from_the_rest()
    {
        await using (var store = SentryStore.Open(Database))
        {
            store.SetTold([AlertOf(1), AlertOf(2)], [MessageOf(1), MessageOf(2)], 17, Frame);
            await store.Kept();
        }

        await using (var raw = new Microsoft.Data.Sqlite.SqliteConnection($"Data Source={Database};Pooling=False"))
        {
            await raw.OpenAsync(TestContext.Current.CancellationToken);
            await using var command = raw.CreateCommand();
            command.CommandText =
                "UPDATE alert SET document = '{\"form\":9}' WHERE number = 1; UPDATE message SET document = '{' WHERE number = 1";
            await command.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
        }

        await using var again = SentryStore.Open(Database);
        Assert.Equal(2, Assert.Single(again.Alerts(10)).Alert.Number);
        var waiting = again.WaitingMessages();
        Assert.Equal([null, "It's is on hold"], waiting.Select(one => one.Message?.Subject));
    }

    [Fact]
    public async Task What_is_old_goes_and_numbers_do_not_come_again()
    {
        await using var store = SentryStore.Open(Database);
        store.SetTold([AlertOf(1), AlertOf(2)], [MessageOf(1), MessageOf(2)], 17, Frame);
        store.Prune(At.AddDays(400));
        await store.Kept();
        Assert.Equal((2, 2), store.LastTold);
        Assert.Equal(2, Assert.Single(store.Alerts(10)).Alert.Number);
        Assert.Equal(2, Assert.Single(store.Messages(10)).Number);
    }

    public void Dispose()
    {
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        place.Delete(recursive: true);
    }
}
