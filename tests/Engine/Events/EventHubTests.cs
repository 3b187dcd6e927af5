using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Events;
using CsCheck;

namespace CalmSentry.Tests.Engine.Events;

/// <summary>Who listens to all hears all, who listens to one service hears of that one alone, each in its order.</summary>
public class EventHubTests
{
    private static readonly string[] Names = ["quay-lamps", "tide-gauge", "fare-ledger"];

    [Fact]
    public Task Each_hears_what_concerns_it_in_its_order() =>
        Gen.Int[-1, Names.Length - 1]
            .Select(at => at < 0 ? null : Names[at])
            .Array[0, 60]
            .SampleAsync(
                async about =>
                {
                    var hub = new EventHub();
                    var all = Hear(hub, null);
                    var ones = Names.Select(name => Hear(hub, name)).ToList();
                    for (var i = 0; i < about.Length; i++)
                        hub.Logged(new LogEntry(i, default, about[i], "trouble", "", null));
                    hub.Close();
                    Assert.Equal(Enumerable.Range(0, about.Length).Select(i => (long)i), await all);
                    for (var i = 0; i < Names.Length; i++)
                        Assert.Equal(
                            Enumerable.Range(0, about.Length).Where(at => about[at] == Names[i]).Select(at => (long)at),
                            await ones[i]
                        );
                },
                iter: 200
            );

    [Fact]
    public async Task Whoever_does_not_keep_up_is_cut_off_and_nobody_else()
    {
        var hub = new EventHub();
        await using var slow = hub.Listen(First, null, default).GetAsyncEnumerator(default);
        await using var other = hub.Listen(First, "quay-lamps", default).GetAsyncEnumerator(default);
        Assert.True(await slow.MoveNextAsync());
        Assert.True(await other.MoveNextAsync());
        const int many = 10_000;
        for (var i = 0; i < many; i++)
            hub.Removed("tide-gauge");
        hub.Removed("quay-lamps");
        var heard = 0;
        while (await slow.MoveNextAsync())
            heard++;
        Assert.InRange(heard, 1, many - 1); // bounded, and then over
        Assert.True(await other.MoveNextAsync());
        Assert.Equal("\"quay-lamps\"", other.Current.Data);
    }

    private static LiveEvent First() => new("service", "{}");

    private static async Task<List<long>> Hear(EventHub hub, string? service)
    {
        var heard = new List<long>();
        await foreach (var live in hub.Listen(First, service, default))
            if (live.Name == "logged")
                heard.Add(JsonDocument.Parse(live.Data).RootElement.GetProperty("id").GetInt64());
        return heard;
    }
}
