using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Several services named together are one act: in order, refused as a whole, with one sum at its end.</summary>
public class TogetherTests
{
    [Fact]
    public async Task Whoever_needs_one_of_them_and_is_not_named_is_told_before_anything_is_touched()
    {
        await using var sentry = await Fleet();
        var refused = await sentry.Calm("stop", "tide", "gate");
        Assert.Equal(1, refused.Exit);
        Assert.Contains(
            "ledger needs tide and is running; nothing was stopped.",
            refused.Error,
            StringComparison.Ordinal
        );
        Assert.Contains("calm stop gate tide --with-dependents", refused.Error, StringComparison.Ordinal);
        Assert.Equal(1, (await sentry.Calm("restart", "tide", "gate")).Exit);
        Assert.Equal(4, (await sentry.Calm("stop", "gate", "tyde")).Exit);
        Assert.Equal(4, (await Post(sentry, "stop", "gate", "tyde")).GetProperty("status").GetInt32() / 100);
        Assert.Equal(400, (await Post(sentry, "restart")).GetProperty("status").GetInt32());
        await All(sentry, "running", run: 1);

        // The one that needs it goes first, whichever is named first; so it does where it is not named, by that word.
        var stopped = await sentry.Ok("stop", "tide", "gate", "--with-dependents");
        Assert.EndsWith(
            "All 2 services are stopped. With them, for it needs one of them: ledger.\n",
            stopped.Output,
            StringComparison.Ordinal
        );
        await All(sentry, "stopped", run: 1);
        Assert.True(await EndOf(sentry, "ledger") <= await EndOf(sentry, "tide"));
    }

    [Fact]
    public async Task They_are_restarted_in_order_and_what_did_not_run_is_started()
    {
        await using var sentry = await Fleet();
        await sentry.Ok("stop", "gate");
        var said = await sentry.Ok("restart", "tide", "gate", "ledger");
        Assert.EndsWith("All 3 services are running again.\n", said.Output, StringComparison.Ordinal);
        await All(sentry, "running", run: 2);
        Assert.True(await EndOf(sentry, "ledger") <= await EndOf(sentry, "tide"));

        // One that cannot run, and none is stopped.
        File.Delete(Path.Combine(sentry.Places.Root, "opens"));
        var refused = await sentry.Calm("restart", "--all");
        Assert.Equal(1, refused.Exit);
        Assert.Contains("There is no program at", refused.Error, StringComparison.Ordinal);
        await All(sentry, "running", run: 2);
    }

    [Fact]
    public async Task A_server_that_is_lost_among_them_leaves_none_behind()
    {
        await using var sentry = await Fleet(slow: true);
        var asked = sentry.Calm("restart", "--all");
        await sentry.Until("ledger", view => view.GetProperty("state").GetString() == "stopping");
        await sentry.KillServer();
        Assert.Equal(5, (await asked).Exit);
        await sentry.Serve();
        foreach (var name in Names)
            await sentry.Until(
                name,
                view => view.GetProperty("state").GetString() == "running" && view.GetProperty("run").GetInt64() == 2
            );
    }

    [Fact]
    public async Task One_by_one_ends_at_the_first_that_is_not_proven()
    {
        await using var sentry = await Sentry.Start();
        var good = Path.Combine(sentry.Places.Root, "good");
        await File.WriteAllTextAsync(good, "", TestContext.Current.CancellationToken);
        var program = sentry.Script(
            "till",
            $"#!/bin/sh\n[ $1 != 2 ] || [ -e {good.Quoted()} ] || exit 3\nexec sleep 600\n"
        );
        foreach (var number in (string[])["1", "2", "3"])
            await sentry.Wrap(
                $"till-{number}",
                "--label",
                "tills",
                "--proof",
                "up-for:100ms",
                "--recover",
                "never",
                "--",
                program,
                number
            );
        await sentry.Ok("start", "--label", "tills");
        var all = await sentry.Ok("restart", "--label", "tills", "--one-by-one");
        Assert.EndsWith(
            "All 3 services are running again, each proven before the next was touched.\n",
            all.Output,
            StringComparison.Ordinal
        );
        File.Delete(good);
        var broken = await sentry.Calm("restart", "--label", "tills", "--one-by-one");
        Assert.Equal(1, broken.Exit);
        Assert.Contains(
            "1 of 3 services were restarted; till-2 is not running, and left as they were: till-3.",
            broken.Error,
            StringComparison.Ordinal
        );
        Assert.Equal(2, (await sentry.Show("till-3")).GetProperty("run").GetInt64());
    }

    private static readonly string[] Names = ["tide", "ledger", "gate"];

    private static Task<JsonElement> Post(Sentry sentry, string what, params string[] names) =>
        sentry.Call(
            HttpMethod.Post,
            $"together/{what}",
            $$"""{"services":[{{string.Join(',', names.Select(name => $"\"{name}\""))}}]}"""
        );

    private static async Task All(Sentry sentry, string state, long run)
    {
        foreach (var name in Names)
        {
            var view = await sentry.Show(name);
            Assert.Equal(
                (name, state, run),
                (name, view.GetProperty("state").GetString(), view.GetProperty("run").GetInt64())
            );
        }
    }

    private static async Task<DateTimeOffset> EndOf(Sentry sentry, string name) =>
        (await sentry.Call(HttpMethod.Get, $"services/{name}/runs"))
            .EnumerateArray()
            .Select(run => run.GetProperty("ended"))
            .First(ended => ended.ValueKind == JsonValueKind.String)
            .GetDateTimeOffset();

    /// <summary>Three that run; the ledger needs the tide.</summary>
    private static async Task<Sentry> Fleet(bool slow = false)
    {
        var sentry = await Sentry.Start();
        var text = $"#!/bin/sh\ntrap 'sleep {(slow ? "1.5" : "0.1")}; exit 0' TERM\nwhile :; do sleep 0.05; done\n";
        var program = sentry.Script("ends", text);
        await sentry.Wrap("tide", "--proof", "up-for:20ms", "--", program, "tide");
        await sentry.Wrap("ledger", "--need", "service:tide", "--proof", "up-for:20ms", "--", program, "ledger");
        await sentry.Wrap("gate", "--proof", "up-for:20ms", "--", sentry.Script("opens", text));
        await sentry.Ok("start", "--all");
        return sentry;
    }
}
