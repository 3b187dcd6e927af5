using Microsoft.Data.Sqlite;

namespace CalmSentry.Tests.EndToEnd;

/// <summary>A machine whose sentry is replaced by this version: what the earlier one kept goes on.</summary>
public class UpgradeTests
{
    [Fact]
    public async Task What_an_earlier_version_kept_is_taken_up_and_goes_on()
    {
        await using var sentry = await Sentry.Start();
        await sentry.KillServer();
        foreach (var file in Directory.GetFiles(sentry.Places.Library, "sentry.db*"))
            File.Delete(file);
        await using (var connection = new SqliteConnection($"Data Source={sentry.Places.Database};Pooling=False"))
        {
            await connection.OpenAsync(TestContext.Current.CancellationToken);
            await using var make = connection.CreateCommand();
            make.CommandText = (
                await File.ReadAllTextAsync(
                    Path.Combine(AppContext.BaseDirectory, "stores", "version-4.sql"),
                    TestContext.Current.CancellationToken
                )
            )
                .Replace("'nobody'", $"'{Sentry.Account}'", StringComparison.Ordinal)
                .Replace("\"nobody\"", $"\"{Sentry.Account}\"", StringComparison.Ordinal);
            await make.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
        }

        await sentry.Serve();
        // It begins with the machine, and this is another boot than the one on record: the sentry has begun it.
        await sentry.Until("tide-store", view => view.GetProperty("state").GetString() == "running");
        Assert.Equal(3, (await sentry.Show("tide-store")).GetProperty("run").GetInt64());
        Assert.Contains(
            "Run 1 was ended by signal TERM",
            (await sentry.Ok("logbook", "tide-store")).Output,
            StringComparison.Ordinal
        );
        Assert.Contains("code 3", (await sentry.Ok("runs", "berth-relay")).Output, StringComparison.Ordinal);
        Assert.Contains(
            "what it had before",
            (await sentry.Ok("account", "take", Sentry.Account, "/srv/skerry/srv/books")).Output,
            StringComparison.Ordinal
        );
        await sentry.Ok("stop", "tide-store");
    }

    /// <summary>Two builds of different versions, both ways: the one that follows takes over from the other.</summary>
    [Theory]
    [InlineData(true)]
    [InlineData(false)]
    public async Task Another_version_takes_over_programs_outcomes_and_orders(bool forward)
    {
        await using var sentry = await Sentry.Start();
        var other = await OtherVersion(Path.Combine(sentry.Places.Root, "other"));
        var (from, to) = forward ? ((string?)null, other) : (other, null);
        await sentry.KillServer();
        sentry.Use(from);
        await sentry.Serve();
        var before = await Version();
        var counter = sentry.Script(
            "counts",
            "#!/bin/sh\ntrap 'echo over; exit 7' TERM\ni=0; while :; do echo $i; i=$((i+1)); sleep 0.01; done\n"
        );
        foreach (var name in (string[])["tide-gauge", "gate-counter", "fare-ledger"])
            await sentry.Wrap(name, "--proof", "up-for:10ms", "--start", "--", counter);
        var pids = new Dictionary<string, int>();
        foreach (var name in (string[])["tide-gauge", "gate-counter", "fare-ledger"])
            pids[name] = await Pid(name);
        var keeper = Sentry.Parent(pids["tide-gauge"]);

        // One ends while no server is there: the keeper of the one version tells the other.
        await sentry.KillServer();
        Sentry.Kill(pids["gate-counter"], "TERM");
        await Sentry.Eventually(() => !Sentry.Lives(pids["gate-counter"]));
        sentry.Use(to);
        await sentry.Serve();
        Assert.NotEqual(before, await Version());
        Assert.Equal(pids["tide-gauge"], await Pid("tide-gauge"));
        Assert.Equal(pids["fare-ledger"], await Pid("fare-ledger"));
        Assert.Contains("code 7", (await sentry.Ok("runs", "gate-counter")).Output, StringComparison.Ordinal);
        await sentry.Until("gate-counter", view => view.GetProperty("state").GetString() == "running");

        // Orders go to keepers of the version before, and at the next start a keeper of this one takes the place.
        await sentry.Ok("adjust", "tide-gauge", "--title", "Tide gauge");
        Assert.Contains("code 7", (await sentry.Ok("stop", "fare-ledger")).Output, StringComparison.Ordinal);
        await sentry.Ok("restart", "tide-gauge");
        Assert.NotEqual(keeper, Sentry.Parent(await Pid("tide-gauge")));
        Assert.False(Sentry.Lives(keeper));
        var lines = (await File.ReadAllLinesAsync(sentry.Places.OutputOf("tide-gauge")))
            .TakeWhile(line => line != "over")
            .ToList();
        Assert.Equal(Enumerable.Range(0, lines.Count).Select(i => $"{i}"), lines);

        // And what it has changed stays readable by the one before.
        var live = await Pid("tide-gauge");
        await sentry.KillServer();
        sentry.Use(from);
        await sentry.Serve();
        Assert.Equal(before, await Version());
        Assert.Equal(live, await Pid("tide-gauge"));
        Assert.Equal("Tide gauge", (await sentry.Show("tide-gauge")).GetProperty("title").GetString());
        Assert.Equal("stopped", (await sentry.Show("fare-ledger")).GetProperty("state").GetString());
        await sentry.Ok("stop", "--all");

        // The files of the other version lie in this sentry's own place, and go with it.
        await sentry.KillServer();
        sentry.Use(null);
        await sentry.Serve();

        async Task<string?> Version() =>
            (await sentry.Ok("host", "status", "--json")).Json.GetProperty("version").GetString();
        async Task<int> Pid(string name) => (await sentry.Show(name)).GetProperty("pid").GetInt32();
    }

    /// <summary>
    /// The programs as another version of them: other files, of which the server's says another number of itself. That
    /// either of two versions may know a field more than the other is a law of its own (MessageTests). CALM_TEST_OTHER
    /// takes an earlier build's directory instead.
    /// </summary>
    private static async Task<string> OtherVersion(string directory)
    {
        if (Environment.GetEnvironmentVariable("CALM_TEST_OTHER") is { } built)
            return Path.GetFullPath(built, Sentry.Repository);
        Directory.CreateDirectory(directory);
        foreach (var file in Directory.EnumerateFiles(Sentry.Out))
            File.Copy(file, Path.Combine(directory, Path.GetFileName(file)));
        // Quickly built, what it says of itself is in a library.
        var says =
            Path.Combine(directory, "calm-sentry.dll") is var library && File.Exists(library)
                ? library
                : Path.Combine(directory, "calm-sentry");
        var bytes = await File.ReadAllBytesAsync(says);
        var changed = 0;
        for (var at = 0; bytes.AsSpan(at).IndexOf("0.1.0"u8) is >= 0 and var next; at += next + 5, changed++)
            "0.1.1"u8.CopyTo(bytes.AsSpan(at + next));
        Assert.NotEqual(0, changed);
        await File.WriteAllBytesAsync(says, bytes);
        return directory;
    }
}
