using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>A quiet time, asked for through the real client.</summary>
public class QuietTests
{
    [Fact]
    public async Task It_is_shown_outlives_the_server_and_lists_at_its_end_what_was_withheld()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("gate", "--hold-ends", "1", "--", "/bin/sh", "-c", "exit 3");
        var quiet = await sentry.Ok("quiet", "gate", "--for", "30min", "--reason", "new printer");
        Assert.Contains("is quiet for 30 min", quiet.Output, StringComparison.Ordinal);
        await sentry.Calm("start", "gate");
        await sentry.Until("gate", view => view.GetProperty("state").GetString() == "held");

        var server = sentry.ServerPid;
        Sentry.Kill(server);
        await Sentry.Eventually(() => !Sentry.Lives(server));
        await sentry.Serve();
        var list = await sentry.Ok("list");
        Assert.Contains("(new printer): no alert is raised", list.Output, StringComparison.Ordinal);
        Assert.Equal(JsonValueKind.String, (await sentry.Show("gate")).GetProperty("quiet-until").ValueKind);
        Assert.Empty(await Told(sentry));

        var over = await sentry.Ok("quiet", "gate", "--end");
        Assert.Contains("Withheld: Held after", over.Output, StringComparison.Ordinal);
        // It is still on hold: that is told as what it is.
        Assert.Equal("goes-on", Assert.Single(await Told(sentry)));
    }

    [Fact]
    public async Task Standing_quiet_times_are_among_what_comes()
    {
        await using var sentry = await Sentry.Start();
        Assert.Contains("Nothing is planned", (await sentry.Ok("ahead")).Output, StringComparison.Ordinal);
        var file = $$"""
            name: gate
            program: { path: /bin/sleep, arguments: ["600"] }
            identity: { account: {{Sentry.Account}} }
            rhythm: [{ quiet: daily at 02:00, for: 2 h }]
            """;
        var piped = await sentry.Piped(file, "wrap", "--from", "-");
        Assert.True(piped.Exit == 0, piped.All);
        Assert.Matches("gate +quiet, for 2 h +- +daily at 02:00", (await sentry.Ok("ahead")).Output);
        var ahead = (await sentry.Ok("ahead", "--for", "3d", "--json")).Json;
        Assert.Empty(ahead.GetProperty("planned").EnumerateArray());
        var quiet = Assert.Single(ahead.GetProperty("quiet").EnumerateArray());
        Assert.Equal(7_200_000, quiet.GetProperty("lasts-ms").GetDouble());
        Assert.Equal(3, quiet.GetProperty("count").GetInt32());
    }

    private static async Task<List<string>> Told(Sentry sentry) =>
        [
            .. (await sentry.Ok("logbook", "gate", "--last", "1000", "--json"))
                .Json.EnumerateArray()
                .Where(entry => entry.GetProperty("tells").GetBoolean())
                .Select(entry => entry.GetProperty("code").GetString()!),
        ];

    [Fact]
    public async Task What_falls_while_nothing_is_restarted_is_started_when_it_is_over()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--pause", "50ms", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "681");
        await sentry.Ok("quiet", "--all", "--for", "1h", "--no-restarts");
        Sentry.Kill((await sentry.Show("tide")).GetProperty("pid").GetInt32());
        var waits = await sentry.Until("tide", view => view.GetProperty("state").GetString() == "waiting");
        Assert.Contains("nothing is restarted", waits.GetProperty("why").GetString(), StringComparison.Ordinal);
        await sentry.Ok("quiet", "tide", "--end");
        await sentry.Until("tide", view => view.GetProperty("state").GetString() == "running");
    }

    [Fact]
    public async Task What_is_wrong_is_said()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--", "/bin/true");
        Assert.Equal(2, (await sentry.Calm("quiet", "tide")).Exit);
        var tooLong = await sentry.Calm("quiet", "tide", "--for", "90d");
        Assert.Contains("at most 30 d", tooLong.Error, StringComparison.Ordinal);
        var none = await sentry.Ok("quiet", "tide", "--end");
        Assert.Contains("was not quiet", none.Output, StringComparison.Ordinal);
    }
}
