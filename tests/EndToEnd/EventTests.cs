using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Live events: of all services, and of one alone.</summary>
public class EventTests
{
    [Fact]
    public async Task A_stream_of_one_service_begins_with_how_it_is_and_tells_of_nothing_else()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("quay-lamps", "--proof", "up-for:10ms", "--", "/usr/bin/sleep", "8101");
        await sentry.Wrap(
            "tide-gauge",
            "--title",
            "Tide gauge",
            "--proof",
            "up-for:10ms",
            "--",
            "/usr/bin/sleep",
            "8102"
        );
        using var limit = new CancellationTokenSource(Sentry.Limit);
        using var client = sentry.Http();
        // By its title, as people may name it anywhere.
        await using var stream = await client.GetStreamAsync(
            "http://sentry/api/services/Tide%20gauge/events",
            limit.Token
        );
        using var reader = new StreamReader(stream);
        var (first, now) = await Next(reader, limit.Token);
        Assert.Equal("service", first);
        Assert.Equal("tide-gauge", now.GetProperty("name").GetString());
        Assert.Equal("stopped", now.GetProperty("state").GetString());

        await sentry.Ok("start", "quay-lamps");
        await sentry.Ok("start", "tide-gauge");
        await sentry.Ok("stop", "quay-lamps");
        await sentry.Ok("unwrap", "tide-gauge", "--yes");
        var told = new List<string>();
        var states = new HashSet<string?>();
        while (true)
        {
            var (word, data) = await Next(reader, limit.Token);
            told.Add(word);
            if (word == "removed")
            {
                Assert.Equal("tide-gauge", data.GetString());
                break;
            }

            Assert.Equal("tide-gauge", data.GetProperty(word == "logged" ? "service" : "name").GetString());
            if (word == "service")
                states.Add(data.GetProperty("state").GetString());
        }

        Assert.Contains("logged", told);
        Assert.Superset(new HashSet<string?> { "starting", "running", "stopping" }, states);
    }

    [Fact]
    public async Task A_stream_of_a_service_that_is_not_there_is_refused_in_words()
    {
        await using var sentry = await Sentry.Start();
        var problem = await sentry.Call(HttpMethod.Get, "services/quay-lamp/events");
        Assert.Equal(404, problem.GetProperty("status").GetInt32());
        Assert.Contains("quay-lamp", problem.GetProperty("detail").GetString(), StringComparison.Ordinal);
    }

    private static async Task<(string Word, JsonElement Data)> Next(StreamReader reader, CancellationToken gone)
    {
        var word = "";
        while (await reader.ReadLineAsync(gone) is { } line)
        {
            if (line.StartsWith("event: ", StringComparison.Ordinal))
                word = line["event: ".Length..];
            else if (line.StartsWith("data: ", StringComparison.Ordinal) && word != "beat")
                return (word, JsonDocument.Parse(line["data: ".Length..]).RootElement);
        }

        throw new EndOfStreamException("the stream of events has ended");
    }
}
