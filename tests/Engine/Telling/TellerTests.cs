using System.Net.Sockets;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Telling;
using CalmSentry.Engine;
using CalmSentry.Store;
using CalmSentry.Telling;
using TheHouse = CalmSentry.Engine.Services.House;

namespace CalmSentry.Tests.Engine.Telling;

/// <summary>What was taken in is told once, whatever fails between the logbook and the outbox.</summary>
public sealed class TellerTests : IDisposable
{
    private readonly Places places = Places.From(Directory.CreateTempSubdirectory("calm's teller ").FullName);
    private readonly Socket box = new(AddressFamily.Unix, SocketType.Dgram, ProtocolType.Unspecified);

    public TellerTests()
    {
        Directory.CreateDirectory(places.Library);
        box.Bind(new UnixDomainSocketEndPoint(Path.Combine(places.Root, "box")));
        box.ReceiveTimeout = 30_000;
    }

    /// <summary>A rhythm that fails when it is asked, once.</summary>
    private sealed record FailsOnce : Rhythm
    {
        private int armed;

        public void Arm() => armed = 1;

        public bool HasFailed { get; private set; }

        public override DateTimeOffset? After(DateTimeOffset moment, TimeZoneInfo zone)
        {
            if (Interlocked.Exchange(ref armed, 0) == 0)
                return null;
            HasFailed = true;
            throw new InvalidOperationException("the calendar is torn");
        }

        public override string ToString() => "never";
    }

    private TellingSettings By(Rhythm? report) =>
        new()
        {
            Tell = [new Recipient(new SyslogWay(Path.Combine(places.Root, "box"))) { Name = "host-log" }],
            Report = report is null ? null : new() { At = report },
        };

    private string Next()
    {
        var room = new byte[65536];
        return Encoding.UTF8.GetString(room, 0, box.Receive(room));
    }

    [Fact]
    public async Task A_step_that_fails_is_done_anew_from_the_logbook_and_nothing_counts_as_told()
    {
        var rhythm = new FailsOnce();
        await using (var store = SentryStore.Open(places.Database, []))
        {
            var house = new TheHouse(places, store, "/nowhere/calm-keeper", new(TimeProvider.System));
            await using var teller = TellerOf(house);
            teller.Begin(By(rhythm));
            rhythm.Arm();
            house.Logbook.Note(new LogbookBrokenEntry("entry 7 is not as it was"), tells: true);
            await Until(() => rhythm.HasFailed && store.Logbook(10).Any(one => one.Entry is TroubleEntry));
            house.Logbook.Note(new MemoryWillFillEntry(TimeSpan.FromHours(5), "1 GiB"), tells: true);
            Assert.Contains("has a logbook that was changed", Next(), StringComparison.Ordinal);
            Assert.Contains("will run out of memory", Next(), StringComparison.Ordinal);
            await Until(() => store.Messages(10, alert: null).All(one => one.State == MessageState.Delivered));
            Assert.Equal([2, 1], store.Alerts(10).Select(one => one.Alert.Number));
            Assert.Equal(2, store.Messages(10, alert: null).Count);
        }

        // The next server goes on from there: nothing comes twice, and what is new comes.
        await using (var store = SentryStore.Open(places.Database, []))
        {
            var house = new TheHouse(places, store, "/nowhere/calm-keeper", new(TimeProvider.System));
            await using var teller = TellerOf(house);
            teller.Begin(By(null));
            house.Logbook.Note(new DiskWillFillEntry("/var", TimeSpan.FromHours(5), "1 GiB"), tells: true);
            Assert.Contains("will fill its disk", Next(), StringComparison.Ordinal);
            Assert.Equal(0, box.Available);
        }
    }

    /// <summary>More entries than it keeps in memory are read from the logbook; each counts once.</summary>
    [Fact]
    public async Task What_comes_faster_than_it_is_taken_in_is_all_taken_in_once()
    {
        await using var store = SentryStore.Open(places.Database, []);
        var house = new TheHouse(places, store, "/nowhere/calm-keeper", new(TimeProvider.System));
        await using var teller = TellerOf(house);
        teller.Begin(By(null));
        const int many = 25_000;
        for (var i = 0; i < many; i++)
            house.Logbook.Note(new DiskWillFillEntry("/var", TimeSpan.FromHours(5), "1 GiB"), tells: true);
        await store.Kept();
        await Until(() => store.ToldUpTo == store.LastEntry);
        Assert.Equal(many, Assert.Single(teller.Known).Count);
        Assert.Contains("will fill its disk", Next(), StringComparison.Ordinal);
        Assert.Equal(0, box.Available);
    }

    private static async Task Until(Func<bool> came)
    {
        for (var i = 0; i < 6000 && !came(); i++)
            await Task.Delay(5);
        Assert.True(came());
    }

    public void Dispose()
    {
        box.Dispose();
        Directory.Delete(places.Root, recursive: true);
    }

    private static Teller TellerOf(TheHouse house) =>
        new(house.Store, house.Tools, house.Logbook, house.Events, house.Clocks, new Rooms(house).Registry);
}
