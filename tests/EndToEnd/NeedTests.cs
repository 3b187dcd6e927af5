using System.Text.Json;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>Needs: late, flapping, never there; other services; who goes down and comes back with whom.</summary>
public class NeedTests
{
    [Fact]
    public async Task Needs_that_come_late_or_flap_are_waited_for_with_what_since_and_until()
    {
        await using var sentry = await Sentry.Start();
        var (port, place) = (Sentry.FreePort(), Path.Combine(sentry.Places.Root, "manifests"));
        await sentry.Wrap(
            "books",
            "--need",
            $"tcp:127.0.0.1:{port}",
            "--need",
            $"path:{place},writable",
            "--need",
            "after-boot:1ms",
            "--",
            "/bin/sleep",
            "600"
        );
        var asked = sentry.Calm("start", "books");
        var waiting = await sentry.Until("books", view => Waits(view) == 2);
        var first = waiting.GetProperty("awaits")[0];
        Assert.Equal(
            ($"an answer at 127.0.0.1:{port}", $"nothing accepts connections at 127.0.0.1:{port}"),
            (first.GetProperty("for").GetString(), first.GetProperty("missing").GetString())
        );
        Assert.Equal(
            TimeSpan.FromMinutes(5),
            first.GetProperty("until").GetDateTimeOffset() - first.GetProperty("since").GetDateTimeOffset()
        );
        Assert.Contains(
            $"for an answer at 127.0.0.1:{port}",
            waiting.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );

        // It is there, but not writable for the account; then it is gone again: nothing is launched on what was seen
        // before.
        Directory.CreateDirectory(place);
        File.SetUnixFileMode(place, (UnixFileMode)0b111_101_101);
        if (Environment.UserName == "root")
            await sentry.Until(
                "books",
                view =>
                    Waits(view) == 2
                    && view.GetProperty("awaits")[1]
                        .GetProperty("missing")
                        .GetString()!
                        .Contains("may not write there", StringComparison.Ordinal)
            );
        File.SetUnixFileMode(place, (UnixFileMode)0b111_111_111);
        await sentry.Until("books", view => Waits(view) == 1);
        Directory.Delete(place);
        await sentry.Until("books", view => Waits(view) == 2);
        using var listener = new System.Net.Sockets.TcpListener(System.Net.IPAddress.Loopback, port);
        listener.Start();
        await sentry.Until("books", view => Waits(view) == 1);
        Assert.Equal("waiting", State(await sentry.Show("books")));
        Directory.CreateDirectory(place);
        File.SetUnixFileMode(place, (UnixFileMode)0b111_111_111);
        var said = await asked;
        Assert.True(said.Exit == 0, said.All);
    }

    [Theory]
    [InlineData("go-ahead", "running", "It starts without it")]
    [InlineData("hold", "held", "did not come within 200 ms (it is not there)")]
    [InlineData("tell", "waiting", "needs attention")]
    public async Task Of_a_need_that_never_comes_it_is_set_what_follows(string then, string state, string words)
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "books",
            "--need",
            $"path:{sentry.Places.Root}/never,within=200ms,follows={then}",
            "--",
            "/bin/sleep",
            "600"
        );
        Assert.Equal(state == "running" ? 0 : 1, (await sentry.Calm("start", "books")).Exit);
        var now = await sentry.Until(
            "books",
            view => State(view) == state && (state != "waiting" || view.GetProperty("health").GetString() == "poor")
        );
        Assert.Contains(
            words,
            state == "running" ? (await sentry.Ok("logbook", "books")).Output : now.GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        await sentry.Ok("stop", "books");
        await sentry.Ok("start", "books", "--without-needs");
        await sentry.Ok("stop", "books");
    }

    [Fact]
    public async Task Whoever_is_needed_begins_first_is_asked_about_before_its_stop_and_stops_last()
    {
        await using var sentry = await Sentry.Start();
        await Chain(sentry, "leave");
        await sentry.Ok("start", "board");
        var logbook = (await sentry.Ok("logbook", "--json"))
            .Json.EnumerateArray()
            .Where(entry => entry.GetProperty("code").GetString() is "proven" or "launched")
            .Select(entry => $"{entry.GetProperty("service").GetString()} {entry.GetProperty("code").GetString()}");
        Assert.Equal(
            ["tide launched", "tide proven", "ledger launched", "ledger proven", "board launched", "board proven"],
            logbook
        );
        Assert.Equal(
            ["ledger"],
            (await sentry.Show("tide")).GetProperty("needed-by").EnumerateArray().Select(name => name.GetString())
        );

        var refused = await sentry.Calm("stop", "tide");
        Assert.Equal(1, refused.Exit);
        Assert.Contains(
            "board, ledger need tide and are running; nothing was stopped.",
            refused.Error,
            StringComparison.Ordinal
        );
        Assert.Equal("running", State(await sentry.Show("tide")));

        var restarted = await sentry.Ok("restart", "tide", "--with-dependents");
        Assert.Contains("tide is running", restarted.Output, StringComparison.Ordinal);
        await sentry.Until("board", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);

        var stopped = await sentry.Ok("stop", "tide", "--with-dependents");
        Assert.Contains("board, ledger, which need it, were stopped first.", stopped.Output, StringComparison.Ordinal);
        var order = (await sentry.Ok("logbook", "--json"))
            .Json.EnumerateArray()
            .Where(entry => entry.GetProperty("code").GetString() == "stopped")
            .Select(entry => entry.GetProperty("service").GetString())
            .TakeLast(3);
        Assert.Equal(["board", "ledger", "tide"], order);

        await sentry.Ok("start", "board");
        await sentry.Ok("stop", "tide", "--alone");
        Assert.Equal("running", State(await sentry.Show("board")));
        Assert.Contains(
            "ledger names tide as a need",
            (await sentry.Calm("unwrap", "tide", "--yes")).Error,
            StringComparison.Ordinal
        );
        await sentry.Ok("unwrap", "tide", "--yes", "--alone");
    }

    [Theory]
    [InlineData("leave", 1)]
    [InlineData("restart", 2)]
    [InlineData("go-down", 2)]
    public async Task When_a_needed_service_falls_its_dependents_do_as_they_are_set(string ifLost, long run)
    {
        await using var sentry = await Sentry.Start();
        await Chain(sentry, ifLost);
        await sentry.Ok("start", "board");
        var before = (await sentry.Show("ledger")).GetProperty("pid").GetInt32();
        await sentry.Ok("adjust", "tide", "--pause", "1s");
        var lost = sentry.Until(
            "ledger",
            view =>
                ifLost switch
                {
                    "go-down" => State(view) == "waiting"
                        && view.GetProperty("awaits")[0].GetProperty("for").GetString() == "tide",
                    "restart" => view.GetProperty("why")
                        .GetString()!
                        .Contains("tide, which it needs, is gone", StringComparison.Ordinal),
                    _ => true,
                }
        );
        Sentry.Kill((await sentry.Show("tide")).GetProperty("pid").GetInt32());
        await lost;
        if (ifLost != "go-down")
            Assert.Contains(before, sentry.Processes("ledger"));
        await sentry.Until("tide", view => State(view) == "running" && view.GetProperty("run").GetInt64() == 2);
        await sentry.Until("ledger", view => State(view) == "running" && view.GetProperty("run").GetInt64() == run);
        await sentry.Until("board", view => State(view) == "running" && view.GetProperty("run").GetInt64() == run);
    }

    [Fact]
    public async Task A_circle_is_refused_with_its_path()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("tide", "--need", "service:board", "--", "/bin/sleep", "600");
        await sentry.Wrap("ledger", "--need", "service:tide", "--", "/bin/sleep", "600");
        foreach (var accept in new string[][] { [], ["--accept", "needs-circle"] })
        {
            var refused = await sentry.Calm([
                "wrap",
                "board",
                "--account",
                Sentry.Account,
                "--need",
                "service:ledger",
                .. accept,
                "--",
                "/bin/sleep",
                "600",
            ]);
            Assert.Equal(1, refused.Exit);
            Assert.Contains("board needs ledger needs tide needs board", refused.Error, StringComparison.Ordinal);
        }

        await sentry.Wrap("board", "--", "/bin/sleep", "600");
        Assert.Contains(
            "board needs ledger needs tide needs board",
            (await sentry.Calm("adjust", "board", "--need", "service:ledger")).Error,
            StringComparison.Ordinal
        );
        Assert.Contains(
            "tide needs tide",
            (await sentry.Calm("adjust", "tide", "--need", "service:tide")).Error,
            StringComparison.Ordinal
        );
    }

    [Fact]
    public async Task What_is_set_never_to_begin_refuses_every_start_with_the_reason()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("old", "--at", "never", "--", "/bin/sleep", "600");
        foreach (var word in new[] { "start", "restart" })
        {
            var refused = await sentry.Calm(word, "old");
            Assert.Equal(1, refused.Exit);
            Assert.Contains(
                "is disabled (begin.at: never); nothing was started.",
                refused.Error,
                StringComparison.Ordinal
            );
        }

        await sentry.Wrap("board", "--need", "service:old,within=100ms,follows=hold", "--", "/bin/sleep", "600");
        await sentry.Calm("start", "board");
        Assert.Contains(
            "starting it is disabled",
            (await sentry.Show("board")).GetProperty("why").GetString(),
            StringComparison.Ordinal
        );
        Assert.Empty(sentry.Processes("old"));
    }

    [Fact]
    public async Task A_check_names_needs_that_cannot_come_and_what_has_no_proof()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("old", "--at", "never", "--", "/bin/sleep", "600");
        await sentry.Wrap("tide", "--", "/bin/sleep", "600");
        var check = (
            await sentry.Calm(
                "check",
                "--json",
                "--account",
                Sentry.Account,
                "--at",
                "boot",
                "--need",
                "service:old",
                "--need",
                "service:tide",
                "--need",
                "service:nobody",
                "--",
                "/bin/sleep",
                "601"
            )
        ).Json;
        Assert.Equal(
            ["need-never-begins", "need-unknown", "need-not-at-boot", "no-proof"],
            check
                .GetProperty("findings")
                .EnumerateArray()
                .Select(finding => finding.GetProperty("code").GetString())
                .Where(code => code!.StartsWith("ne", StringComparison.Ordinal) || code == "no-proof")
        );
    }

    [Fact]
    public async Task A_server_killed_while_a_service_waits_goes_on_waiting()
    {
        await using var sentry = await Sentry.Start();
        var place = Path.Combine(sentry.Places.Root, "manifests");
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "600");
        await sentry.Wrap(
            "books",
            "--need",
            $"path:{place}",
            "--need",
            "service:tide",
            "--proof",
            "up-for:0s",
            "--",
            "/bin/sleep",
            "601"
        );
        var asked = sentry.Calm("start", "books");
        await sentry.Until("books", view => Waits(view) == 1);
        await sentry.Ok("adjust", "tide", "--notes", "kept"); // what came before is on the disk when this is
        await sentry.KillServer();
        await asked;
        await sentry.Serve();
        await sentry.Until("books", view => Waits(view) == 1);
        await File.WriteAllTextAsync(place, "");
        await sentry.Until("books", view => State(view) == "running");
    }

    /// <summary>board needs ledger needs tide, each proven at once.</summary>
    private static async Task Chain(Sentry sentry, string ifLost)
    {
        await sentry.Wrap("tide", "--proof", "up-for:0s", "--", "/bin/sleep", "600");
        await sentry.Wrap(
            "ledger",
            "--proof",
            "up-for:0s",
            "--need",
            $"service:tide,if-lost={ifLost}",
            "--",
            "/bin/sleep",
            "600"
        );
        await sentry.Wrap(
            "board",
            "--proof",
            "up-for:0s",
            "--need",
            $"service:ledger,if-lost={ifLost}",
            "--",
            "/bin/sleep",
            "600"
        );
    }

    private static int Waits(JsonElement view) =>
        State(view) == "waiting" && view.GetProperty("awaits").ValueKind == JsonValueKind.Array
            ? view.GetProperty("awaits").GetArrayLength()
            : 0;

    private static string State(JsonElement view) => view.GetProperty("state").GetString()!;
}
