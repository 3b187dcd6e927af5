using CalmSentry.Core.Lifecycle;
using CalmSentry.Store;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>No number of a run is given twice, also over a power cut that takes the latest commits with it.</summary>
public class NumberTests
{
    [Fact]
    public async Task What_is_reserved_runs_ahead_of_what_is_given_and_a_closed_store_gives_the_rest_back()
    {
        var file = Path.GetTempFileName();
        var now = DateTimeOffset.UtcNow;
        ServiceId id;
        var random = new Random(7);
        long last = 0;
        await using (var store = SentryStore.Open(file))
        {
            id = store.NextServiceId();
            store.Add(id, "tide", "{}", Situation.New(now), new("anna"), now);
            await store.Kept();
            Assert.True(store.Reserved(id).Value >= 4); // a wrapped service can be started at once
            for (var i = 0; i < 200; i++)
            {
                last += random.Next(0, 3);
                store.Save(id, Situation.New(now) with { LastRun = new(last) }, new(now, i));
                if (random.Next(4) > 0)
                    continue;
                await store.Flush();
                Assert.InRange(store.Reserved(id).Value, last + 4, last + 12);
            }
        }

        await using (var again = SentryStore.Open(file))
        {
            Assert.Equal(last, again.Reserved(id).Value);
            again.Remove(id, "tide");
            await again.Flush();
            Assert.Equal(0, again.Reserved(id).Value);
        }

        File.Delete(file);
    }
}
