using System.Text.Json;
using System.Text.Json.Nodes;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// The drill: what would be interrupted, everything down and up again in order, and a report that is so.
/// </summary>
[Needs("memcached")]
public class DrillTests
{
    [Fact]
    public async Task A_drill_shows_what_it_would_do_does_it_and_reports()
    {
        await using var sentry = await Sentry.Start();
        var port = Sentry.FreePort();
        await sentry.Wrap(
            "tide",
            "--at",
            "boot",
            "--proof",
            $"tcp:127.0.0.1:{port}",
            "--start",
            "--",
            "/usr/bin/memcached",
            "-l",
            "127.0.0.1",
            "-p",
            $"{port}"
        );
        await sentry.Wrap(
            "board",
            "--at",
            "boot",
            "--proof",
            "up-for:0s",
            "--need",
            "service:tide",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        await sentry.Wrap("late", "--at", "boot-late", "--proof", "up-for:0s", "--", "/bin/sleep", "600");
        await sentry.Wrap("by-hand", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        await sentry.Wrap("at-rest", "--", "/bin/sleep", "600");
        var before = (await sentry.Show("tide")).GetProperty("pid").GetInt32();

        var plan = (await sentry.Ok("drill", "--dry", "--json")).Json;
        Assert.Equal(["board", "tide"], Names(plan, "stops").Where(name => name is "board" or "tide"));
        Assert.Equal(["by-hand"], plan.GetProperty("not-back").EnumerateArray().Select(name => name.GetString()));
        Assert.Equal(["board", "late", "tide"], Names(plan, "begins").Order());
        Assert.True(
            plan.GetProperty("begins")
                .EnumerateArray()
                .First(begin => begin.GetProperty("name").GetString() == "tide")
                .GetProperty("usual-ms")
                .GetDouble() > 0
        );
        Assert.Equal(before, (await sentry.Show("tide")).GetProperty("pid").GetInt32());

        // What the board needs goes on with it; nothing else that is left would be.
        plan = (await sentry.Ok("drill", "--dry", "--json", "--without", "board")).Json;
        Assert.Equal(["by-hand"], Names(plan, "stops"));
        Assert.Equal(["late"], Names(plan, "begins"));
        Assert.Contains(
            "Left as they are, with what they need: board, tide.",
            plan.GetProperty("said").GetString(),
            StringComparison.Ordinal
        );
        Assert.Equal(4, (await sentry.Calm("drill", "--dry", "--without", "bord")).Exit);
        await sentry.Ok("drill", "--yes", "--without", "board");
        Assert.Equal(before, (await sentry.Show("tide")).GetProperty("pid").GetInt32());
        Assert.Equal(2, (await sentry.Show("by-hand")).GetProperty("run").GetInt64());

        var asks = await sentry.Calm("drill");
        Assert.Equal(2, asks.Exit);
        Assert.Contains("by-hand", asks.Error, StringComparison.Ordinal);
        Assert.Equal(before, (await sentry.Show("tide")).GetProperty("pid").GetInt32());

        var report = (await sentry.Ok("drill", "--yes", "--json")).Json;
        Assert.True(report.GetProperty("came-true").GetBoolean());
        Assert.Equal(["board", "tide"], Names(report, "stops").Where(name => name is "board" or "tide"));
        var services = report
            .GetProperty("services")
            .EnumerateArray()
            .ToDictionary(view => view.GetProperty("name").GetString()!);
        Assert.Equal(
            "at-rest not-begun, board proven, by-hand not-begun, late proven, tide proven",
            string.Join(
                ", ",
                services
                    .OrderBy(pair => pair.Key, StringComparer.Ordinal)
                    .Select(pair => $"{pair.Key} {pair.Value.GetProperty("came").GetString()}")
            )
        );
        Assert.True(Ms(services["board"], "launched-ms") >= Ms(services["tide"], "proven-ms"));
        Assert.True(Ms(services["late"], "launched-ms") >= Ms(services["board"], "proven-ms"));
        Assert.Equal("tide", services["board"].GetProperty("waited")[0].GetProperty("for").GetString());
        Assert.Contains(
            $"before it was {before}.",
            services["tide"].GetProperty("differences")[0].GetString(),
            StringComparison.Ordinal
        );
        Assert.Contains(
            "a boot does not start it",
            services["by-hand"].GetProperty("differences")[0].GetString(),
            StringComparison.Ordinal
        );
        Assert.Equal("drill", (await sentry.Show("tide")).GetProperty("runs")[0].GetProperty("cause").GetString());
        await sentry.Until("by-hand", view => view.GetProperty("state").GetString() == "running");
        Assert.Equal("stopped", (await sentry.Show("at-rest")).GetProperty("state").GetString());
        Assert.Equal(
            report.GetProperty("began").GetString(),
            (await sentry.Ok("drill", "--last", "--json")).Json.GetProperty("began").GetString()
        );
        Assert.Equal(4, (await sentry.Calm("drill", "--last-boot")).Exit);
    }

    [Fact]
    public async Task What_does_not_come_up_is_named_with_its_reason()
    {
        await using var sentry = await Sentry.Start();
        var program = sentry.Script("board", "#!/bin/sh\nexec sleep 600\n");
        await sentry.Wrap(
            "board",
            "--at",
            "boot",
            "--proof",
            "up-for:0s",
            "--hold-ends",
            "2",
            "--pause",
            "0s",
            "--start",
            "--",
            program
        );
        await sentry.Wrap(
            "page",
            "--at",
            "boot",
            "--proof",
            "up-for:0s",
            "--need",
            "service:board",
            "--start",
            "--",
            "/bin/sleep",
            "600"
        );
        File.Delete(program);
        var said = await sentry.Calm("drill", "--yes");
        Assert.Equal(1, said.Exit);
        Assert.Contains("0 of 2 services ready. Not: ", said.Output, StringComparison.Ordinal);
        Assert.Contains("board: On hold since", said.Output, StringComparison.Ordinal);
        Assert.Contains("for board (it is on hold)", said.Output, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_drill_of_one_takes_what_it_needs_and_leaves_the_rest_alone()
    {
        await using var sentry = await Sentry.Start();
        foreach (var (name, need) in new[] { ("tide", null), ("board", "service:tide"), ("other", (string?)null) })
            await sentry.Wrap(
                name,
                [
                    "--at",
                    "boot",
                    "--proof",
                    "up-for:0s",
                    "--start",
                    .. need is null ? Array.Empty<string>() : ["--need", need],
                    "--",
                    "/bin/sleep",
                    "600",
                ]
            );
        var other = (await sentry.Show("other")).GetProperty("pid").GetInt32();
        var report = (await sentry.Ok("drill", "board", "--yes", "--json")).Json;
        Assert.Equal(["tide", "board"], Names(report, "services"));
        Assert.Equal(other, (await sentry.Show("other")).GetProperty("pid").GetInt32());
    }

    /// <summary>
    /// 300 services, each needing up to three of those before it: no launch comes before the proofs it waits for.
    /// </summary>
    [Fact]
    public async Task Three_hundred_begin_in_a_legal_order_for_real()
    {
        await using var sentry = await Sentry.Start();
        var random = new Random(7);
        var needs = new Dictionary<string, string[]>();
        for (var i = 0; i < 300; i++)
        {
            var name = $"berth-{i}";
            needs[name] =
            [
                .. Enumerable.Range(0, i == 0 ? 0 : random.Next(4)).Select(_ => $"berth-{random.Next(i)}").Distinct(),
            ];
            var definition = new JsonObject
            {
                ["name"] = name,
                ["program"] = new JsonObject { ["path"] = "/bin/sleep", ["arguments"] = new JsonArray("600") },
                ["identity"] = new JsonObject { ["account"] = Sentry.Account },
                ["begin"] = new JsonObject
                {
                    ["at"] = "boot",
                    ["proof"] = new JsonObject { ["up-for"] = "0s" },
                    ["needs"] = new JsonArray([.. needs[name].Select(need => new JsonObject { ["service"] = need })]),
                },
            };
            Assert.True(
                (await sentry.Call(HttpMethod.Post, "services", definition.ToJsonString())).TryGetProperty(
                    "came-true",
                    out _
                )
            );
        }

        var report = (await sentry.Ok("drill", "--yes", "--json")).Json;
        Assert.True(report.GetProperty("came-true").GetBoolean(), report.GetProperty("said").GetString());
        var services = report
            .GetProperty("services")
            .EnumerateArray()
            .ToDictionary(view => view.GetProperty("name").GetString()!);
        Assert.Equal(300, services.Count);
        foreach (var (name, needed) in needs)
            Assert.All(
                needed,
                other =>
                    Assert.True(
                        Ms(services[name], "launched-ms") >= Ms(services[other], "proven-ms"),
                        $"{name} was launched before {other} was proven"
                    )
            );

        var second = (await sentry.Ok("drill", "--yes", "--json")).Json;
        var stops = Names(second, "stops").ToList();
        Assert.Equal(300, stops.Count);
        foreach (var (name, needed) in needs)
            Assert.All(
                needed,
                other => Assert.True(stops.IndexOf(name) < stops.IndexOf(other), $"{other} was stopped before {name}")
            );
    }

    private static IEnumerable<string> Names(JsonElement report, string of) =>
        report.GetProperty(of).EnumerateArray().Select(view => view.GetProperty("name").GetString()!);

    private static double Ms(JsonElement view, string key) => view.GetProperty(key).GetDouble();
}
