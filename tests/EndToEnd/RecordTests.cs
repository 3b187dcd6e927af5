using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>
/// An order is on record before it is given: whatever is killed before the store has it, no program is unknown to the
/// sentry, and none has a second copy beside it.
/// </summary>
public class RecordTests
{
    [Fact]
    public async Task Server_and_keeper_killed_before_the_store_has_the_run_the_program_is_found_and_its_number_not_used_again()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("relay", "--start", "--", "/bin/sleep", "601");
        await sentry.Ok("stop", "relay");
        int orphan;
        await using (await Held(sentry))
        {
            var start = sentry.Calm("start", "relay");
            orphan = (await sentry.Until("relay", view => State(view) == "running")).GetProperty("pid").GetInt32();
            var keeper = Sentry.Parent(orphan);
            await sentry.KillServer();
            Sentry.Kill(keeper);
            await start;
            Assert.True(Sentry.Lives(orphan));
        }

        await sentry.Serve();
        var back = await sentry.Until("relay", view => State(view) == "running");
        Assert.False(Sentry.Lives(orphan));
        Assert.Equal([back.GetProperty("pid").GetInt32()], sentry.Processes("relay"));
        Assert.Equal(3, back.GetProperty("run").GetInt64());
        Assert.Equal(["3 ", "2 keeper-lost", "1 signalled"], await Runs(sentry, "relay"));
    }

    [Fact]
    public async Task Several_runs_in_a_row_that_the_store_had_not_heard_of_are_all_on_record_afterwards()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap(
            "gate",
            "--pause",
            "10ms",
            "--hold-ends",
            "100",
            "--",
            sentry.Script("gate", "#!/bin/sh\n[ -e \"$0.stay\" ] && exec sleep 602\nexit 3\n")
        );
        var script = Path.Combine(sentry.Places.Root, "gate");
        int orphan;
        long last;
        await using (await Held(sentry))
        {
            var start = sentry.Calm("start", "gate");
            await sentry.Until("gate", view => Run(view) >= 5);
            await File.WriteAllTextAsync(script + ".stay", "");
            var now = await sentry.Until("gate", view => State(view) == "running");
            (orphan, last) = (now.GetProperty("pid").GetInt32(), Run(now));
            var keeper = Sentry.Parent(orphan);
            await sentry.KillServer();
            Sentry.Kill(keeper);
            await start;
        }

        await sentry.Serve();
        await sentry.Until("gate", view => State(view) == "running" && Run(view) == last + 1);
        Assert.False(Sentry.Lives(orphan));
        Assert.Single(sentry.Processes("gate"));
        var runs = await Runs(sentry, "gate");
        Assert.Equal(
            Enumerable
                .Range(1, (int)last + 1)
                .Reverse()
                .Select(run =>
                    run == last + 1 ? $"{run} "
                    : run == last ? $"{run} keeper-lost"
                    : $"{run} exited"
                ),
            runs
        );
        // Nothing is left of what was written down on the way.
        await Sentry.Eventually(async () =>
        {
            var directory = sentry.Places.RunOf(await sentry.Id("gate"));
            return Directory.GetFiles(directory, "outcome.*").Length == 0
                && Directory
                    .GetFiles(directory, "order.*")
                    .Select(Path.GetFileName)
                    .SequenceEqual([$"order.{last + 1}"]);
        });
    }

    [Fact]
    public async Task A_run_whose_keeper_died_while_a_newer_one_answers_is_ended_and_on_record()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("board", "--proof", "up-for:0s", "--pause", "10ms", "--", "/bin/sleep", "603");
        int second;
        await using (await Held(sentry))
        {
            var start = sentry.Calm("start", "board");
            var first = (await sentry.Until("board", view => State(view) == "running")).GetProperty("pid").GetInt32();
            Sentry.Kill(Sentry.Parent(first));
            second = (await sentry.Until("board", view => State(view) == "running" && Run(view) == 2))
                .GetProperty("pid")
                .GetInt32();
            await sentry.KillServer();
            await start;
        }

        await sentry.Serve();
        var now = await sentry.Until("board", view => State(view) == "running");
        Assert.Equal((second, 2L), (now.GetProperty("pid").GetInt32(), Run(now)));
        Assert.Equal([second], sentry.Processes("board"));
        Assert.Equal(["2 ", "1 keeper-lost"], await Runs(sentry, "board"));
    }

    [Fact]
    public async Task What_was_decided_and_never_ordered_is_ordered_by_the_next_server()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("board", "--proof", "up-for:0s", "--start", "--", "/bin/sleep", "604");
        await sentry.Ok("stop", "board");
        await sentry.KillServer();
        await sentry.ChangeStore(
            "UPDATE service SET situation = json_set(situation, '$.phase', 'starting', '$.last-run', 2, '$.run', "
                + "json('{\"number\":2,\"cause\":\"asked\",\"began\":\"2026-11-01T00:00:00+00:00\"}'))"
        );

        await sentry.Serve();
        var now = await sentry.Until("board", view => State(view) == "running");
        Assert.Equal(2, Run(now));
        Assert.Single(sentry.Processes("board"));
    }

    /// <summary>A mark is text in a process's own hands: another account's starts nothing and raises no number.</summary>
    [Fact]
    public async Task A_forged_mark_changes_nothing()
    {
        await using var sentry = await Sentry.Start();
        await sentry.Wrap("board", "--start", "--", "/bin/sleep", "605");
        await sentry.Ok("stop", "board");
        var mark = $"CALM_RUN={sentry.Places.RunDirectory}:{await sentry.Id("board")}";
        await sentry.KillServer();
        var stranger = Environment.UserName == "root" ? "daemon" : Sentry.Account;
        using var other = System.Diagnostics.Process.Start(
            "setpriv",
            ["--reuid", stranger, "--clear-groups", "env", $"{mark}:7", "sleep", "605"]
        );
        using var near = System.Diagnostics.Process.Start(
            "setpriv",
            ["--reuid", Sentry.Account, "--clear-groups", "env", $"{mark}:3", "sleep", "605"]
        );
        using var far = System.Diagnostics.Process.Start(
            "setpriv",
            ["--reuid", Sentry.Account, "--clear-groups", "env", $"{mark}:9000000000000000000", "sleep", "605"]
        );
        try
        {
            await sentry.Serve();
            var now = await sentry.Show("board");
            Assert.Equal(("stopped", 1), (State(now), now.GetProperty("runs").GetArrayLength()));
            Assert.False(other.HasExited || far.HasExited);
            await near.WaitForExitAsync(TestContext.Current.CancellationToken); // its own account's: ended, and that is all
            await sentry.Ok("start", "board");
            Assert.Equal(2, Run(await sentry.Show("board")));
        }
        finally
        {
            near.Kill();
            other.Kill();
            far.Kill();
        }
    }

    private static string? State(System.Text.Json.JsonElement view) => view.GetProperty("state").GetString();

    private static long Run(System.Text.Json.JsonElement view) =>
        view.GetProperty("run") is { ValueKind: System.Text.Json.JsonValueKind.Number } run ? run.GetInt64() : 0;

    private static async Task<IEnumerable<string>> Runs(Sentry sentry, string name) =>
        (await sentry.Ok("runs", name, "--last", "200", "--json"))
            .Json.EnumerateArray()
            .Select(run => $"{run.GetProperty("run").GetInt64()} {run.GetProperty("outcome").GetString()}")
            .ToList();

    /// <summary>A store that somebody keeps busy: nothing more is written to it until this is disposed.</summary>
    internal static async Task<IAsyncDisposable> Held(Sentry sentry)
    {
        var connection = new SqliteConnection($"Data Source={sentry.Places.Database};Pooling=False");
        await connection.OpenAsync();
        await using var command = connection.CreateCommand();
        command.CommandText = "BEGIN IMMEDIATE";
        await command.ExecuteNonQueryAsync();
        return connection;
    }
}
