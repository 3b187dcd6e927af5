namespace CalmSentry.Tests.EndToEnd;

/// <summary>Another name for a service: its whole record comes along, and others find it by the new one.</summary>
public class RenameTests
{
    private const string Keeper =
        "#!/bin/sh\necho \"kept in $CALM_STATE, key $KEY\"\necho one >>\"$CALM_STATE/book\"\nexec sleep 600\n";

    [Fact]
    public async Task The_whole_record_comes_along()
    {
        await using var sentry = await Sentry.Start();
        var script = sentry.Script("ledger", Keeper);
        await sentry.Wrap("fare-ledger", "--secret", "KEY", "--proof", "up-for:10ms", "--", script);
        await sentry.Piped("seven\n", "secret", "set", "fare-ledger", "KEY");
        await sentry.Wrap("board", "--need", "service:fare-ledger", "--", "/bin/sleep", "600");
        await sentry.Ok("start", "fare-ledger");
        var before = await sentry.Show("fare-ledger");

        // While it runs its directories are in use; nothing is touched.
        var live = await sentry.Calm("rename", "fare-ledger", "Quay ledger");
        Assert.Equal(1, live.Exit);
        Assert.Contains("calm stop fare-ledger", live.Error, StringComparison.Ordinal);
        await sentry.Ok("stop", "fare-ledger", "--alone");
        var dry = (await sentry.Ok("rename", "fare-ledger", "Quay ledger", "--dry")).Output;
        Assert.Contains("board would need it by its new name. Nothing was done.", dry, StringComparison.Ordinal);
        Assert.Equal("fare-ledger", (await sentry.Show("fare-ledger")).GetProperty("name").GetString());

        var said = await sentry.Ok("rename", "fare-ledger", "Quay ledger");
        Assert.Contains("fare-ledger is quay-ledger now, revision 2.", said.Output, StringComparison.Ordinal);
        Assert.Contains("board needs it by its new name.", said.Output, StringComparison.Ordinal);
        await Holds();
        // What was said to be kept is, whatever is killed.
        await sentry.KillServer();
        await sentry.Serve();
        await Holds();

        await sentry.Ok("start", "board"); // it starts what it needs
        Assert.Equal(2, (await sentry.Show("quay-ledger")).GetProperty("run").GetInt32());
        var output = await File.ReadAllTextAsync(sentry.Places.OutputOf("quay-ledger"));
        Assert.Contains($"kept in {sentry.Places.StateOf("fare-ledger")}, key ", output, StringComparison.Ordinal);
        Assert.Contains($"kept in {sentry.Places.StateOf("quay-ledger")}, key ", output, StringComparison.Ordinal);
        Assert.Equal(
            "one\none\n",
            await File.ReadAllTextAsync(Path.Combine(sentry.Places.StateOf("quay-ledger"), "book"))
        );

        // Another service may be called so now; what it has is its own.
        await sentry.Wrap("fare-ledger", "--", "/bin/sleep", "600");
        Assert.Empty((await sentry.Ok("runs", "fare-ledger", "--json")).Json.EnumerateArray());
        Assert.NotEqual(
            before.GetProperty("id").GetInt64(),
            (await sentry.Show("fare-ledger")).GetProperty("id").GetInt64()
        );

        async Task Holds()
        {
            var after = await sentry.Show("quay-ledger");
            Assert.Equal(before.GetProperty("id").GetInt64(), after.GetProperty("id").GetInt64());
            Assert.Equal("Quay ledger", after.GetProperty("title").GetString());
            Assert.Equal("KEY", after.GetProperty("secrets")[0].GetProperty("key").GetString());
            Assert.True(after.GetProperty("secrets")[0].GetProperty("has-value").GetBoolean());
            Assert.Single((await sentry.Ok("runs", "quay-ledger", "--json")).Json.EnumerateArray());
            var log = (await sentry.Ok("logbook", "quay-ledger", "--last", "50")).Output;
            Assert.Contains("Wrapped:", log, StringComparison.Ordinal);
            Assert.Contains("until now it was called fare-ledger", log, StringComparison.Ordinal);
            Assert.Contains(
                "{ service: quay-ledger }",
                (await sentry.Ok("show", "board", "--yaml")).Output.Replace(
                    "- service: quay-ledger",
                    "{ service: quay-ledger }",
                    StringComparison.Ordinal
                ),
                StringComparison.Ordinal
            );
            var gone = await sentry.Calm("show", "fare-ledger");
            Assert.Equal(4, gone.Exit);
            Assert.Contains("it was renamed to 'quay-ledger'", gone.Error, StringComparison.Ordinal);
            Assert.False(Directory.Exists(sentry.Places.OutputDirectoryOf("fare-ledger")));
            Assert.False(Directory.Exists(sentry.Places.StateOf("fare-ledger")));
            Assert.Equal(
                ["board.yaml", "quay-ledger.yaml"],
                Directory.GetFiles(sentry.Places.Definitions).Select(Path.GetFileName).Order(StringComparer.Ordinal)
            );
        }
    }

    [Fact]
    public async Task A_name_that_is_taken_in_any_way_is_refused_and_nothing_is_changed()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        await sentry.Wrap("gate", "--title", "Harbour gate", "--need", "service:quay", "--", "/bin/sleep", "600");
        await sentry.Ok("adjust", "tide", "--need", "service:gate");
        await sentry.Wrap("bell", "--proof", "up-for:10ms", "--start", "--", sentry.Script("bell", Keeper));
        await sentry.Ok("unwrap", "bell", "--yes");
        var before = (await sentry.Ok("show", "tide", "--yaml")).Output;

        await Refused("gate", 1, "There is a service called 'gate' already");
        await Refused("Harbour gate", 1, "There is a service called 'gate' already");
        await Refused("bell", 1, "is of an earlier service called 'bell'");
        await Refused("quay", 1, "circle"); // gate needs a quay that is not there yet, and tide needs gate
        await Refused("+++", 2, "No short name can be made of '+++'");
        Assert.Equal(2, (await sentry.Calm("rename", "tide")).Exit);
        Assert.Equal(4, (await sentry.Calm("rename", "nope", "tide-2")).Exit);
        Assert.Contains(
            "is its name already",
            (await sentry.Ok("rename", "tide", "tide")).Output,
            StringComparison.Ordinal
        );
        Assert.Equal(before, (await sentry.Ok("show", "tide", "--yaml")).Output);
        Assert.Contains(
            "calm rename tide tide-2",
            (
                await sentry.Piped(
                    before.Replace("name: tide", "name: tide-2", StringComparison.Ordinal),
                    "adjust",
                    "tide",
                    "--from",
                    "-"
                )
            ).Error,
            StringComparison.Ordinal
        );

        async Task Refused(string to, int exit, string why)
        {
            var said = await sentry.Calm("rename", "tide", to);
            Assert.Equal(exit, said.Exit);
            Assert.Contains(why, said.Error, StringComparison.Ordinal);
        }
    }
}
