using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Store;
using CsCheck;

namespace CalmSentry.Tests.Engine.Store;

/// <summary>Whatever is asked for together, what comes is what fits all of it: the latest so many, oldest first.</summary>
public class LogQueryTests
{
    private static readonly DateTimeOffset Begin = new(2026, 11, 1, 12, 0, 0, TimeSpan.Zero);

    private static readonly Entry[] Some =
    [
        new LaunchedEntry(new(1), 7),
        new FellEntry(new(1), new(OutcomeKind.Exited, 1)),
        new HeldEntry(null, null) { Why = "it fell" },
        new StopAskedEntry(new(1)),
        new NotedEntry(null, NoteManner.Notes, "it", []),
        new NotedEntry(null, NoteManner.Warns, "it", []),
    ];

    private static readonly string[] People = ["anna", "ben", "anna as root", "ann"];

    private static readonly Gen<LogQuery> Queries = Gen.Select(
            Gen.Int[1, 40],
            Gen.Int[0, 2],
            Gen.Int[0, Some.Length - 1].Select(i => Some[i].Kind).Array[0, 2],
            Gen.Int[0, 4].Select(i => ((string?[])[null, "anna", "root", "ben", "an"])[i]),
            Gen.Int[-1, 30],
            Gen.Int[-1, 30]
        )
        .Select(
            Gen.Int[0, 3]
                .Select(i =>
                    ((EntrySeverity?[])[null, EntrySeverity.Alert, EntrySeverity.Error, EntrySeverity.Warning])[i]
                ),
            Gen.Int[0, 2].Select(i => ((string?[])[null, "STOP", "nobody says this"])[i]),
            Gen.Int[-1, 40]
        )
        .Select(
            (one, severity, text, after) =>
                new LogQuery(one.Item1)
                {
                    Service = one.Item2 == 0 ? null : new(one.Item2),
                    Kinds = one.Item3,
                    By = one.Item4,
                    Since = one.Item5 < 0 ? null : Begin.AddMinutes(one.Item5),
                    Until = one.Item6 < 0 ? null : Begin.AddMinutes(one.Item6),
                    Severity = severity,
                    Text = text,
                    After = after < 0 ? null : after,
                }
        );

    [Fact]
    public async Task What_comes_is_what_fits()
    {
        var file = Path.GetTempFileName();
        await using (var store = SentryStore.Open(file))
        {
            var random = new Random(16);
            for (var i = 0; i < 40; i++)
            {
                var service = random.Next(3);
                store.Log(
                    Begin.AddMinutes(i * 0.75),
                    service == 0 ? null : new ServiceId(service),
                    service == 0 ? null : $"service-{service}",
                    Some[random.Next(Some.Length)],
                    random.Next(2) == 0 ? null : new Principal(People[random.Next(People.Length)]),
                    tells: random.Next(5) == 0
                );
            }

            await store.Flush();
            var all = store.Logbook(1000);
            Assert.Equal(40, all.Count);
            Queries.Sample(
                query =>
                    Assert.Equal(
                        all.Where(entry => Fits(query, entry)).TakeLast(query.Last).Select(entry => entry.Number),
                        store.Logbook(query).Select(entry => entry.Number)
                    ),
                iter: 500
            );
        }

        File.Delete(file);
    }

    private static bool Fits(LogQuery query, StoredEntry entry) =>
        (query.Service is not { } id || entry.Service == $"service-{id.Number}")
        && (query.Kinds.Count == 0 || query.Kinds.Contains(entry.Entry.Kind))
        && (query.By is null || (entry.By?.Split(" as ") ?? []).Contains(query.By))
        && (query.Since is not { } since || entry.At >= since)
        && (query.Until is not { } until || entry.At <= until)
        && (query.Severity is not { } severity || entry.Entry.SeverityIf(entry.Tells) <= severity)
        && (query.Text is null || entry.Entry.Text.Contains(query.Text, StringComparison.OrdinalIgnoreCase))
        && (query.After is not { } after || entry.Number > after);
}
