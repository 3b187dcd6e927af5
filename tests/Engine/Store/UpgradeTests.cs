using System.Text.Json;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Definitions;
using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>
/// Stores as earlier versions wrote them, kept as SQL in <c>stores</c>: each is opened by this version, and everything
/// in it is still there. A version that changes the tables adds one, made by the programs before the change.
/// </summary>
public class UpgradeTests
{
    private static readonly string[] Tables =
    [
        "service",
        "revision",
        "run",
        "moment",
        "logbook",
        "secret",
        "account",
        "fact",
        "beginning",
    ];

    [Fact]
    public async Task A_store_of_version_4_is_read_with_all_that_is_in_it()
    {
        var file = Old("version-4");
        for (var opened = 0; opened < 2; opened++) // brought forward once, and found so the next time
        {
            await using var store = SentryStore.Open(file);
            var services = store.Services();
            Assert.Equal(["berth-relay", "tide-store"], services.Select(service => service.Name));
            Assert.All(services, service => Assert.Equal(Phase.Stopped, service.Situation!.Phase));
            var tide = services.Single(service => service.Name == "tide-store");
            Assert.Equal("TIDE_KEY", store.Secrets().Single().Key);
            Assert.Equal(2, tide.Situation!.LastRun.Value);
            Assert.Equal(OutcomeKind.Signalled, tide.Situation!.LastEnd!.Outcome.Kind);
            var entries = store.Logbook(1000);
            Assert.Equal(20, entries.Count);
            var fell = entries.First(entry => entry.Entry.Kind == EntryKinds.Of<FellEntry>());
            Assert.Equal("berth-relay", fell.Service);
            Assert.Equal(
                "Run 1 ended by itself with exit code 3, before it was proven: a failed start; next try in 1.07 s.",
                fell.Entry.Text
            );
            Assert.Equal(new StoredAccount("nobody", true, false), store.Accounts().Single());
            Assert.Equal(
                ("nobody", "/srv/skerry/srv/books", "acl"),
                store.Grants().Select(grant => (grant.Account, grant.Path, grant.How)).Single()
            );
            Assert.NotNull(store.MomentAt(tide.Id, DateTimeOffset.MaxValue)?.Why);
            Assert.Equal("asked", store.Fact("permits"));
            Assert.Empty(store.Sessions()); // signed in anew: a session has two secrets now
            Assert.Null(store.Failure);
        }

        File.Delete(file);
    }

    [Fact]
    public async Task A_store_of_version_5_is_brought_up_to_ids_and_the_words_of_today_with_nothing_lost()
    {
        var file = Old("version-5");
        var before = Counts(file);
        var ids = new List<ServiceId>();
        for (var opened = 0; opened < 2; opened++)
        {
            await using var store = SentryStore.Open(file);
            var services = store.Services();
            Assert.Equal(
                ["departure-board", "gate-counter", "quay-lamps", "ticket-spooler", "tide-store"],
                services.Select(service => service.Name)
            );
            if (opened == 0)
                ids.AddRange(services.Select(service => service.Id));
            Assert.Equal(ids, services.Select(service => service.Id)); // an id never changes
            Assert.Equal(5, ids.Distinct().Count());
            Assert.All(services, service => Assert.Empty(Read(service.Document).Errors));
        }

        // Rows are the same many, but for a logbook's that lost none either.
        Assert.Equal(before, Counts(file));
        await using (var store = SentryStore.Open(file))
        {
            var services = store.Services().ToDictionary(service => service.Name);
            var tide = Read(services["tide-store"].Document).Definition!;
            Assert.Equal(64, tide.Resources.TreeSize);
            Assert.Equal(
                [
                    new SilenceWatch(TimeSpan.FromMinutes(10))
                    {
                        Beat = TimeSpan.FromSeconds(5),
                        Follows = WatchFollow.Note,
                    },
                    new MemoryWatch(400 << 20)
                    {
                        Beat = Watch.UsualSample,
                        Lasting = TimeSpan.FromMinutes(5),
                        Follows = WatchFollow.Tell,
                    },
                    new TreeWatch(20) { Beat = Watch.UsualSample, Follows = WatchFollow.Tell },
                ],
                tide.Watch.Where(watch => !watch.Implied)
            );
            Assert.Equal("Tide store", tide.Title);
            var spooler = Read(services["ticket-spooler"].Document).Definition!;
            Assert.Equal(new SaidProof { Within = TimeSpan.FromSeconds(20) }, spooler.Begin.Proof);
            Assert.IsType<WellWatch>(spooler.Watch[0]);
            Assert.Equal(
                ["/srv/skerry/srv/lamps.sh", "off"],
                Read(services["quay-lamps"].Document).Definition!.Program.Off
            );
            Assert.Equal(
                NeedFollow.Hold,
                Read(services["departure-board"].Document).Definition!.Begin.Needs[0].Follows
            );

            // What runs goes on under the mark it was launched with.
            var live = services["departure-board"].Situation!.Run!;
            Assert.Equal((2L, "departure-board"), (live.Number, live.Label));
            Assert.Equal(Phase.Held, services["gate-counter"].Situation!.Phase);
            Assert.Equal(3, services["gate-counter"].Situation!.BadEnds.Length);

            // Records belong to it as before.
            var gate = services["gate-counter"].Id;
            var runs = store.Runs(gate, 10);
            Assert.Equal([3L, 2L, 1L], runs.Select(run => run.Number.Value));
            Assert.Equal(["the barrier reads -1"], runs[0].Evidence!.LastLines);
            Assert.NotNull(store.Origin(gate, new(3)));
            Assert.Equal(
                "TERM to its tree",
                store.Runs(services["departure-board"].Id, 10).Single(run => run.Number == 1).Steps.Single().What
            );
            Assert.All(store.Logbook(gate, 100), entry => Assert.Equal("gate-counter", entry.Service));
            Assert.NotEmpty(store.Turns(gate, DateTimeOffset.MinValue));
            Assert.Equal("TIDE_KEY", store.Secrets().Single().Key);

            // The report of the last boot says what it said.
            var boot = store.Report(ReportKind.Boot)!;
            Assert.Equal(
                "1 of 2 services ready within 3.2 s. Not: gate-counter. A reboot would not bring back: quay-lamps "
                    + "(begin.at is not boot).",
                ReportWords.Of(boot)
            );
            Assert.Equal(
                "Its process is 4711, before it was 4302.",
                ReportWords.Of(boot.Services[0].Differences.Single(), boot.Services[0].At)
            );
        }

        // And it can be written like one of today.
        await using (var store = SentryStore.Open(file))
        {
            var added = store.NextServiceId();
            Assert.DoesNotContain(added, ids);
            var now = DateTimeOffset.UnixEpoch;
            store.Add(added, "tide-reader", "{}", Situation.New(now), new("anna"), now);
            store.AddMoment(added, new(now, "stopped", "unknown", ServiceTime.Planned, 1, Situation.New(now)));
            store.Log(now, added, "tide-reader", new StoppedEntry(new(1), new(OutcomeKind.Exited)), null);
            await store.Flush();
            Assert.Null(store.Failure);
            Assert.IsType<StoppedEntry>(store.Logbook(added, 10).Single().Entry);
            Assert.Equal(Situation.New(now).Since, store.MomentAt(added, now)!.Situation!.Since);
        }

        File.Delete(file);
    }

    [Fact]
    public async Task A_store_of_version_6_has_its_logbook_chained_with_nothing_lost()
    {
        var file = Old("version-6");
        var before = Counts(file);
        for (var opened = 0; opened < 2; opened++)
        {
            await using var store = SentryStore.Open(file);
            var proof = store.Prove();
            Assert.Equal((null, 24 + opened, 24 + opened), (proof.Why, proof.Entries, (int)proof.Last));
            Assert.Equal("root", store.Logbook(100).First(entry => entry.Entry is WrappedEntry).By);
            Assert.Equal(["departure-board", "tide-store"], store.Services().Select(service => service.Name));
            if (opened == 0)
                Assert.Equal(before, Counts(file));
            store.Log(DateTimeOffset.UnixEpoch, null, null, new DrillEntry(), null);
            await store.Flush();
        }

        File.Delete(file);
    }

    [Fact]
    public async Task An_id_is_never_given_twice_even_when_its_service_is_gone()
    {
        var file = Path.GetTempFileName();
        var given = new List<ServiceId>();
        for (var i = 0; i < 3; i++)
        {
            await using var store = SentryStore.Open(file);
            var id = store.NextServiceId();
            store.Add(
                id,
                "tide-reader",
                "{}",
                Situation.New(DateTimeOffset.UnixEpoch),
                new("anna"),
                DateTimeOffset.UnixEpoch
            );
            await store.Flush();
            Assert.Equal(id, store.IdOf("tide-reader"));
            store.Remove(id, "tide-reader");
            await store.Flush();
            Assert.Null(store.IdOf("tide-reader"));
            given.Add(id);
        }

        Assert.Equal(3, given.Distinct().Count());
        File.Delete(file);
    }

    [Fact]
    public void A_store_of_a_later_version_is_refused_with_words()
    {
        var file = Path.GetTempFileName();
        using (var connection = new SqliteConnection($"Data Source={file};Pooling=False"))
        {
            connection.Open();
            using var make = connection.CreateCommand();
            make.CommandText = "PRAGMA user_version = 99";
            make.ExecuteNonQuery();
        }

        Assert.Contains(
            "written by a later version",
            Assert.Throws<LaterStoreException>(() => SentryStore.Open(file)).Message,
            StringComparison.Ordinal
        );
        File.Delete(file);
    }

    private static (Definition? Definition, IReadOnlyList<DefinitionError> Errors) Read(string document)
    {
        using var json = JsonDocument.Parse(document);
        return DefinitionReader.Read(JsonNodes.Read(json.RootElement));
    }

    private static Dictionary<string, long> Counts(string file)
    {
        using var connection = new SqliteConnection($"Data Source={file};Pooling=False");
        connection.Open();
        return Tables.ToDictionary(
            table => table,
            table =>
            {
                using var count = connection.CreateCommand();
                count.CommandText = $"SELECT count(*) FROM {table}";
                return (long)count.ExecuteScalar()!;
            }
        );
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
