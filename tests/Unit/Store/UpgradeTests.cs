using CalmSentry.Core.Lifecycle;
using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Unit.Store;

/// <summary>
/// Stores as earlier versions wrote them, kept as SQL in <c>stores</c>: each is opened by this version, and everything
/// in it is
/// still there. A version that changes the tables adds one, made by the programs before the change.
/// </summary>
public class UpgradeTests
{
    public static TheoryData<string> Versions =>
        [
            .. Directory
                .GetFiles(Path.Combine(AppContext.BaseDirectory, "Store", "stores"), "*.sql")
                .Select(Path.GetFileNameWithoutExtension)
                .OfType<string>(),
        ];

    [Theory]
    [MemberData(nameof(Versions))]
    public async Task A_store_of_an_earlier_version_is_read_with_all_that_is_in_it(string version)
    {
        var file = Old(version);
        for (var opened = 0; opened < 2; opened++) // brought forward once, and found so the next time
        {
            await using var store = SentryStore.Open(file);
            var services = store.Services();
            Assert.Equal(["berth-relay", "tide-store"], services.Select(service => service.Name));
            Assert.All(services, service => Assert.Equal(Phase.Stopped, service.Situation.Phase));
            Assert.Contains("\"TIDE_KEY\"", $"\"{store.Secrets().Single().Key}\"", StringComparison.Ordinal);
            Assert.Equal(2, services.Single(service => service.Name == "tide-store").Situation.LastRun);
            Assert.Equal(
                OutcomeKind.Signalled,
                services.Single(service => service.Name == "tide-store").Situation.LastEnd!.Outcome.Kind
            );
            var entries = store.Logbook(null, 1000, (_, _, service, what, text, by, _) => (service, what, text, by));
            Assert.Equal(20, entries.Count);
            Assert.Contains(
                (
                    "berth-relay",
                    "fell",
                    "Run 1 ended by itself with exit code 3, before it was proven: a failed start; next try in 1.07 s.",
                    null
                ),
                entries
            );
            Assert.Equal(new StoredAccount("nobody", true, false), store.Accounts().Single());
            Assert.Equal(
                ("nobody", "/srv/skerry/srv/books", "acl"),
                store.Grants().Select(grant => (grant.Account, grant.Path, grant.How)).Single()
            );
            Assert.NotNull(store.MomentAt("tide-store", DateTimeOffset.MaxValue));
            Assert.Equal("asked", store.Fact("permits"));
            Assert.Empty(store.Sessions()); // signed in anew: a session has two secrets now
            Assert.Null(store.Failure);
        }

        // And it can be written like one of today.
        await using (var store = SentryStore.Open(file))
        {
            store.SetSession(
                new(
                    "hash",
                    "page",
                    "id",
                    "anna",
                    "a browser",
                    DateTimeOffset.UnixEpoch,
                    DateTimeOffset.UnixEpoch,
                    DateTimeOffset.MaxValue
                )
            );
            store.Log(DateTimeOffset.UnixEpoch, "tide-store", "stopped", "Stopped.", null);
            await store.Flush();
            Assert.Single(store.Sessions());
            Assert.Null(store.Failure);
        }

        File.Delete(file);
    }

    private static string Old(string version)
    {
        var file = Path.GetTempFileName();
        using var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        using var make = connection.CreateCommand();
        make.CommandText = File.ReadAllText(
            Path.Combine(AppContext.BaseDirectory, "Store", "stores", version + ".sql")
        );
        make.ExecuteNonQuery();
        return file;
    }
}
