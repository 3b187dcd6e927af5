using CalmSentry.Contract;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Services;
using CalmSentry.Store;
using TheHouse = CalmSentry.Engine.Services.House;

namespace CalmSentry.Tests.Engine.Services;

/// <summary>A renaming that is cut off anywhere is finished or undone by the next server: never half of it.</summary>
public sealed class RenamingTests : IDisposable
{
    private const string Was = "fare-ledger",
        Now = "quay-ledger";

    private readonly Places places = new(Directory.CreateTempSubdirectory("calm's renaming ").FullName);

    public void Dispose() => Directory.Delete(places.Root, recursive: true);

    private static string Document(string name, string? need = null)
    {
        var needs = need is null ? "[]" : $$"""[{"network":"up"},{"service":"{{need}}","within":"20 s"}]""";
        return $$$"""
            {"name":"{{{name}}}","program":{"path":"/bin/sleep"},"identity":{"account":"nobody"},"begin":{"needs":{{{needs}}}}}
            """;
    }

    public static TheoryData<int, bool> Cuts()
    {
        var all = new TheoryData<int, bool>();
        for (var moved = 0; moved <= 3; moved++)
            foreach (var committed in (bool[])[false, true])
                all.Add(moved, committed);
        return all;
    }

    /// <param name="moved">How many of its three directories lie under the new name already.</param>
    /// <param name="committed">Whether the store has the new name: a power cut may keep that and lose a move.</param>
    [Theory]
    [MemberData(nameof(Cuts))]
    public async Task Cut_off_anywhere_all_of_it_lies_under_one_name(int moved, bool committed)
    {
        Directory.CreateDirectory(places.Library);
        Directory.CreateDirectory(places.RunDirectory);
        var at = DateTimeOffset.UnixEpoch;
        await using (var store = SentryStore.Open(places.Database))
        {
            var (service, other, third) = (store.NextServiceId(), store.NextServiceId(), store.NextServiceId());
            store.Add(service, Was, Document(Was), Situation.New(at), new("anna"), at);
            store.Add(other, "board", Document("board", Was), Situation.New(at), new("anna"), at);
            store.Add(third, "gate", Document("gate", "tide"), Situation.New(at), new("anna"), at);
            store.SetSecret(Was, "KEY", "sealed");
            store.SetRenaming(service, Was, Now);
            Fill(0, places.Logs, moved);
            Fill(1, places.States, moved);
            Fill(2, places.StatesApart, moved, ".1001.1");
            if (committed)
                store.Rename(service, Was, Now, 2, Document(Now), new("anna"), at);
            await store.Kept();
        }

        await using (var store = SentryStore.Open(places.Database))
        {
            var house = new TheHouse(places, store, "/nowhere", new(TimeProvider.System));
            await Renaming.Settle(house);
            await Renaming.Settle(house); // and the next time there is nothing left to do
            var (name, not) = committed ? (Now, Was) : (Was, Now);
            Assert.Empty(store.Renamings());
            Assert.Equal(
                ["board", name, "gate"],
                store
                    .Services()
                    .Select(one => one.Name)
                    .OrderBy(one =>
                        one == "gate" ? 2
                        : one == "board" ? 0
                        : 1
                    )
            );
            Assert.Equal([name], store.Secrets().Select(secret => secret.Service));
            foreach (
                var (directory, end) in ((string, string)[])
                    [(places.Logs, ""), (places.States, ""), (places.StatesApart, ".1001.1")]
            )
            {
                Assert.Equal("one", File.ReadAllText(Path.Combine(directory, name + end, "book")));
                Assert.False(Directory.Exists(Path.Combine(directory, not + end)));
            }

            var board = store.Services().Single(one => one.Name == "board");
            Assert.Equal(committed ? 2 : 1, board.Revision);
            Assert.Contains($$"""{"service":"{{name}}","within":"20 s"}""", board.Document, StringComparison.Ordinal);
            Assert.Equal(Document("gate", "tide"), store.Services().Single(one => one.Name == "gate").Document);
            Assert.Equal(committed ? store.IdOf(Now) : null, store.RenamedFrom(Was));
        }
    }

    [Fact]
    public async Task What_another_service_has_by_then_is_left_to_it()
    {
        Directory.CreateDirectory(places.Library);
        Directory.CreateDirectory(places.RunDirectory);
        var at = DateTimeOffset.UnixEpoch;
        await using var store = SentryStore.Open(places.Database);
        var (service, other) = (store.NextServiceId(), store.NextServiceId());
        store.Add(service, Now, Document(Now), Situation.New(at), new("anna"), at);
        store.Add(other, Was, Document(Was), Situation.New(at), new("anna"), at);
        store.SetRenaming(service, Was, Now);
        await store.Kept();
        Fill(0, places.Logs, 0);
        await Renaming.Settle(new TheHouse(places, store, "/nowhere", new(TimeProvider.System)));
        Assert.True(Directory.Exists(Path.Combine(places.Logs, Was)));
        Assert.Empty(store.Renamings());
    }

    private static void Fill(int which, string directory, int moved, string end = "")
    {
        var path = Path.Combine(directory, (which < moved ? Now : Was) + end);
        Directory.CreateDirectory(path);
        File.WriteAllText(Path.Combine(path, "book"), "one");
    }
}
