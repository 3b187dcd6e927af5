using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>Whoever changes, removes, adds or moves an entry of the logbook behind the sentry's back is found out.</summary>
public sealed class LogChainTests : IDisposable
{
    private const int Entries = 60;

    private const string Emptied =
        "INSERT INTO logbook_emptied (id, digest, chain) SELECT id, digest, chain FROM logbook WHERE ";

    private static readonly DateTimeOffset Began = new(2026, 11, 1, 12, 0, 0, TimeSpan.Zero);

    private readonly string file = Path.GetTempFileName();

    public void Dispose()
    {
        SqliteConnection.ClearAllPools();
        File.Delete(file);
    }

    private async Task<LogProof> Written(Action<SentryStore>? more = null)
    {
        await using var store = SentryStore.Open(file);
        for (var i = 1; i <= Entries; i++)
            store.Log(
                Began.AddMinutes(i),
                new ServiceId(i % 3),
                $"till-{i % 3}",
                new FellEntry(new(i), new(OutcomeKind.Exited, 1)) { Why = $"reason {i}" },
                i % 5 == 0 ? new Principal("anna") : null
            );
        await store.Flush();
        more?.Invoke(store);
        await store.Flush();
        return store.Prove();
    }

    private async Task<LogProof> Changed(string sql, string? head = null)
    {
        SqliteConnection.ClearAllPools();
        await using (var other = new SqliteConnection($"Data Source={file};Pooling=False"))
        {
            await other.OpenAsync(TestContext.Current.CancellationToken);
            await using var change = other.CreateCommand();
            change.CommandText = sql;
            Assert.NotEqual(0, await change.ExecuteNonQueryAsync(TestContext.Current.CancellationToken));
        }

        await using var store = SentryStore.Open(file);
        return store.Prove(head);
    }

    [Theory]
    [InlineData("UPDATE logbook SET at = at + 1 WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET fields = replace(fields, 'reason 30', 'reason 31') WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET fields = '{' WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET by = NULL WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET by = '' WHERE id = 31", 31L)] // nothing is not an empty text
    [InlineData("UPDATE logbook SET service = 'till-9' WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET service_id = 7 WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET what = 'stopped' WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET tells = 1 WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET text = 'else' WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET digest = NULL WHERE id = 30", 30L)]
    [InlineData("UPDATE logbook SET chain = digest WHERE id = 30", 30L)]
    [InlineData("DELETE FROM logbook WHERE id = 30", 31L)]
    [InlineData("DELETE FROM logbook WHERE id = 1", 2L)]
    [InlineData("DELETE FROM logbook WHERE id < 30", 30L)]
    [InlineData(
        "INSERT INTO logbook SELECT 61, at, service, what, text, by, tells, service_id, fields, digest, chain FROM logbook WHERE id = 60",
        61L
    )]
    [InlineData(
        "INSERT INTO logbook_emptied (id, digest, chain) SELECT id + 1000, digest, chain FROM logbook WHERE id = 60",
        1060L
    )]
    [InlineData(Emptied + "id = 30; DELETE FROM logbook WHERE id = 30", 30L)]
    [InlineData(Emptied + "id = 1; DELETE FROM logbook WHERE id = 1", 1L)]
    [InlineData(Emptied + "id > 40; DELETE FROM logbook WHERE id > 40", 41L)]
    [InlineData(Emptied + "id = 30; DELETE FROM logbook WHERE id = 30; UPDATE logbook_emptied SET told = 60", 30L)]
    [InlineData("UPDATE logbook SET id = CASE id WHEN 30 THEN -1 ELSE 30 END WHERE id IN (30, 31)", -1L)]
    public async Task A_change_is_found_where_it_was_made(string sql, long at)
    {
        Assert.Null((await Written()).Why);
        var proof = await Changed(sql);
        Assert.NotNull(proof.Why);
        Assert.Equal(at, proof.BrokenAt);
        // And whatever was put there keeps nobody from reading the rest.
        await using var store = SentryStore.Open(file);
        Assert.All(store.Logbook(100), entry => Assert.NotEmpty(entry.Entry.Text));
    }

    [Fact]
    public async Task A_cut_end_and_a_logbook_written_anew_show_against_a_hash_that_was_kept()
    {
        var before = await Written();
        Assert.Equal((Entries, Entries), (before.Entries, before.Last));
        var cut = await Changed("DELETE FROM logbook WHERE id > 50");
        Assert.Null(cut.Why); // by itself it cannot know
        Assert.Equal(50, cut.Last);
        await using (var store = SentryStore.Open(file))
        {
            Assert.Contains(before.Head, store.Prove(before.Head).Why, StringComparison.Ordinal);
            Assert.Null(store.Prove(cut.Head.ToUpperInvariant()).Why);
            Assert.Null(store.Broken); // that is the business of whoever kept the hash
        }
    }

    [Fact]
    public async Task What_is_dropped_as_too_much_or_too_old_leaves_a_chain_that_holds()
    {
        var before = await Written(store => store.Prune(new ServiceId(1), Began, 1));
        Assert.Null(before.Why);
        Assert.Equal((Entries + 1, 20 - 5 - 3), (before.Entries + before.Emptied, before.Emptied)); // 3 of those were asked for
        await using (var store = SentryStore.Open(file))
        {
            var (tells, drop) = store.Cut(Began.AddMinutes(20), int.MaxValue)!.Value;
            store.Log(Began.AddDays(1), null, null, tells, null);
            drop();
            store.Log(Began.AddDays(1), null, null, new DrillEntry(), null);
            await store.Flush();
            var after = store.Prove(before.Head);
            Assert.Null(after.Why);
            Assert.True(after.Entries + after.Emptied < Entries);
        }

        // A beginning that no entry tells of is no beginning.
        Assert.NotNull((await Changed("DELETE FROM logbook WHERE what = 'logbook-cut'")).Why);
    }

    [Theory]
    [InlineData(Emptied + "id = 50; DELETE FROM logbook WHERE id = 50", 50)]
    [InlineData(
        Emptied + "id = 50; DELETE FROM logbook WHERE id = 50; UPDATE logbook_emptied SET told = 61 WHERE id = 50",
        1
    )]
    [InlineData("UPDATE logbook_emptied SET told = NULL WHERE id = 7", 1)]
    [InlineData("UPDATE logbook_emptied SET digest = chain WHERE id = 7", 7)]
    [InlineData(
        "UPDATE logbook_emptied SET digest = (SELECT digest FROM logbook_emptied WHERE id = 1) WHERE id = 7",
        7
    )]
    [InlineData("DELETE FROM logbook_emptied WHERE id = 7", 8)]
    public async Task What_is_emptied_is_told_by_an_entry_and_nothing_else_is(string sql, long at)
    {
        Assert.Null((await Written(store => store.Prune(new ServiceId(1), Began, 1))).Why);
        await using (var store = SentryStore.Open(file))
        {
            var told = Assert.IsType<LogbookEmptiedEntry>(store.Logbook(1)[0].Entry);
            Assert.Equal((12L, 1L), (told.Count, told.First));
        }

        Assert.Equal(at, (await Changed(sql)).BrokenAt);
    }

    [Fact]
    public async Task What_an_earlier_version_has_emptied_is_told_at_the_upgrade()
    {
        await Written(store => store.Prune(new ServiceId(1), Began, 1));
        var proof = await Changed(
            "DELETE FROM logbook WHERE id = 61; ALTER TABLE logbook_emptied DROP COLUMN told; ALTER TABLE revision DROP COLUMN source; PRAGMA user_version = 9"
        );
        Assert.Equal((null, 61L, 12L), (proof.Why, proof.Last, proof.Emptied));
        Assert.Equal(50, (await Changed(Emptied + "id = 50; DELETE FROM logbook WHERE id = 50")).BrokenAt);
    }

    [Fact]
    public async Task A_forged_beginning_is_told_by_no_entry()
    {
        await Written();
        var proof = await Changed(
            "INSERT INTO fact SELECT 'logbook-begins', '29 ' || lower(hex(chain)) FROM logbook WHERE id = 29; DELETE FROM logbook WHERE id <= 29"
        );
        Assert.Equal("no entry tells of the removal of those before its first", proof.Why);
    }

    [Fact]
    public async Task Entries_that_come_from_everywhere_at_once_while_the_disk_takes_nothing_are_chained_in_their_order()
    {
        await using (var store = SentryStore.Open(file))
        {
            await using (var other = new SqliteConnection($"Data Source={file};Pooling=False"))
            {
                await other.OpenAsync(TestContext.Current.CancellationToken);
                await using var hold = other.CreateCommand();
                hold.CommandText = "BEGIN IMMEDIATE";
                await hold.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
                Parallel.For(0, 2000, i => store.Log(Began, null, null, new DrillEntry(i), null));
                hold.CommandText = "ROLLBACK";
                await hold.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
            }

            while (store.Logbook(5000).Count < 2000)
                await store.Flush(soon: false);
            Assert.Null(store.Prove().Why);
        }

        await using var again = SentryStore.Open(file);
        Assert.Equal(2001, again.Log(Began, null, null, new DrillEntry(), null));
        await again.Flush();
        Assert.Equal((2001, null), (again.Prove().Entries, again.Prove().Why));
    }

    [Fact]
    public async Task Entries_are_found_by_all_that_is_asked_for_at_once()
    {
        await Written(store =>
        {
            store.Log(Began.AddHours(5), null, null, new TroubleEntry("Nothing fits"), new("olaf as root"));
        });
        await using var store = SentryStore.Open(file);
        Assert.Equal([10, 25, 40, 55], Runs(new(50) { Service = new(1), By = "anna" }));
        Assert.Equal([55, 60], Runs(new(2) { By = "anna" }));
        Assert.Equal([30, 31, 32], Runs(new(50) { Since = Began.AddMinutes(30), Until = Began.AddMinutes(32) }));
        Assert.Equal([57, 58], Runs(new(2) { Before = 59 }));
        Assert.Equal([60], Runs(new(50) { After = 59, Kinds = [EntryKinds.Of<FellEntry>()] }));
        Assert.Equal(["till-2"], store.Logbook(new LogQuery(1) { Name = "till-2" }).Select(entry => entry.Service));
        Assert.Single(store.Logbook(new LogQuery(50) { By = "olaf" }));
        Assert.Single(
            store.Logbook(
                new LogQuery(50) { By = "root", Kinds = [EntryKinds.Of<TroubleEntry>(), EntryKinds.Of<DrillEntry>()] }
            )
        );
        Assert.Single(store.Logbook(new LogQuery(50) { Text = "NOTHING fits" }));
        Assert.Empty(store.Logbook(new LogQuery(50) { By = "ann" }));
        Assert.Empty(store.Logbook(new LogQuery(50) { By = "' OR 1 = 1 --" }));

        IEnumerable<long> Runs(LogQuery query) =>
            store
                .Logbook(query)
                .Where(entry => entry.Entry.Fields.Run is not null)
                .Select(entry => entry.Entry.Fields.Run!.Value.Value);
    }
}
