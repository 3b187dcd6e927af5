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
}
