namespace CalmSentry.Tests.EndToEnd;

/// <summary>One row of the store that cannot be read keeps nobody from anything, and its program from nothing.</summary>
public class DamageTests
{
    [Fact]
    public async Task A_definition_that_cannot_be_read_is_named_its_program_left_alone_and_it_can_be_mended()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "651");
        await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "652");
        var tide = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        var board = (await sentry.Show("board")).GetProperty("pid").GetInt32();
        await sentry.KillServer();
        await sentry.ChangeStore(
            "UPDATE revision SET document = json_set(document, '$.lamp', 'red') "
                + "WHERE service = (SELECT id FROM service WHERE name = 'tide')"
        );

        await sentry.Serve();
        var list = (await sentry.Ok("list", "--json")).Json.EnumerateArray().ToList();
        Assert.Equal(["board", "tide"], list.Select(view => view.GetProperty("name").GetString()));
        Assert.Equal(("running", board), (State(list[0]), list[0].GetProperty("pid").GetInt32()));
        Assert.Equal("unreadable", State(list[1]));
        Assert.Contains("lamp", list[1].GetProperty("why").GetString(), StringComparison.Ordinal);
        Assert.Contains("tide", (await sentry.Ok("board", "--once")).Output, StringComparison.Ordinal);
        Assert.True(Sentry.Lives(tide));

        // Its name stays its own, and whatever is asked of it says so; changes of others go on.
        foreach (
            var asked in (string[][])
                [
                    ["wrap", "tide", "--account", Sentry.Account, "--", "/bin/sleep", "653"],
                    ["stop", "tide"],
                    ["adjust", "tide", "--title", "Tide"],
                    ["unwrap", "tide", "--yes"],
                ]
        )
        {
            var said = await sentry.Calm(asked);
            Assert.Equal(1, said.Exit);
            Assert.Contains("lamp", said.All, StringComparison.Ordinal);
            Assert.Contains("calm adjust tide --from", said.All, StringComparison.Ordinal);
        }

        await sentry.Wrap("gate", "--", "/bin/sleep", "654");
        Assert.True(Sentry.Lives(tide));

        // What is stored lies there to be mended.
        var file = sentry.Places.UnreadableOf("tide");
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(file));
        var stored = await File.ReadAllTextAsync(file, TestContext.Current.CancellationToken);
        var mended = Path.Combine(sentry.Places.Root, "mended.json");
        await File.WriteAllTextAsync(
            mended,
            stored.Replace(",\"lamp\":\"red\"", "", StringComparison.Ordinal),
            TestContext.Current.CancellationToken
        );
        await sentry.Ok("adjust", "tide", "--from", mended);
        var back = await sentry.Show("tide");
        Assert.Equal(
            ("running", tide, 1L, 2),
            (
                State(back),
                back.GetProperty("pid").GetInt32(),
                back.GetProperty("run").GetInt64(),
                back.GetProperty("revision").GetInt32()
            )
        );
        await sentry.Ok("stop", "tide");
        Assert.False(Sentry.Lives(tide));
    }

    [Fact]
    public async Task Where_a_service_stands_cannot_be_read_and_its_program_is_found_all_the_same()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "655");
        await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "656");
        await sentry.Ok("stop", "board");
        var tide = (await sentry.Show("tide")).GetProperty("pid").GetInt32();
        await sentry.KillServer();
        await sentry.ChangeStore(
            "UPDATE service SET situation = '{\"phase\":'; UPDATE moment SET situation = '{\"form\":2,\"run\":{}}'"
        );

        await sentry.Serve();
        var now = await sentry.Until("tide", view => State(view) == "running");
        Assert.Equal((tide, 1L), (now.GetProperty("pid").GetInt32(), now.GetProperty("run").GetInt64()));
        Assert.Equal("stopped", State(await sentry.Show("board")));
        await sentry.Ok("start", "board");
        Assert.Equal(2, (await sentry.Show("board")).GetProperty("run").GetInt64()); // no number is used twice
    }

    [Fact]
    public async Task A_store_that_is_lost_is_made_again_from_the_copies_and_programs_keep_their_pids()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "657");
        await sentry.Wrap("board", "--title", "Departure board", "--", "/bin/sleep", "658");
        await sentry.Wrap("gone", "--", "/bin/sleep", "659");
        await sentry.Ok("adjust", "board", "--title", "Board of departures");
        await sentry.Ok("unwrap", "gone", "--yes");
        await sentry.Ok("restart", "tide");
        var (tide, id) = ((await sentry.Show("tide")).GetProperty("pid").GetInt32(), await sentry.Id("board"));
        await sentry.KillServer();
        foreach (var file in Directory.GetFiles(sentry.Places.Library, "sentry.db*"))
            File.Delete(file);

        await sentry.Serve();
        var back = await sentry.Show("tide");
        Assert.Equal(
            ("running", tide, 2L),
            (State(back), back.GetProperty("pid").GetInt32(), back.GetProperty("run").GetInt64())
        );
        Assert.Equal("Board of departures", (await sentry.Show("board")).GetProperty("title").GetString());
        Assert.Equal(id, await sentry.Id("board"));
        Assert.Equal(2, (await sentry.Ok("list", "--json")).Json.GetArrayLength());
        Assert.Contains("made again", (await sentry.Ok("logbook")).Output, StringComparison.Ordinal);
        await sentry.Wrap("next", "--", "/bin/sleep", "660");
        Assert.DoesNotContain(await sentry.Id("next"), (string[])[id, await sentry.Id("tide")]);
        // A copy is a definition like any other.
        await sentry.Ok("unwrap", "board", "--yes");
        await sentry.Ok("stop", "tide");
        var copy = Path.Combine(sentry.Places.Definitions, "tide.yaml");
        Assert.Equal(UnixFileMode.UserRead | UnixFileMode.UserWrite, File.GetUnixFileMode(copy));
        var text = await File.ReadAllTextAsync(copy, TestContext.Current.CancellationToken);
        await sentry.Ok("unwrap", "tide", "--yes");
        Assert.False(File.Exists(copy));
        await sentry.Ok("wrap", "--from", sentry.Script("tide.yaml", text, executable: false));
    }

    private static string? State(System.Text.Json.JsonElement view) => view.GetProperty("state").GetString();
}
