using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Server.Self;

/// <summary>
/// What is done now and then: the mark that the server is alive, and dropping what is too old to be of use.
/// </summary>
internal sealed class Upkeep : IDisposable
{
    /// <summary>A little over the longest window that availability is told for.</summary>
    private static readonly TimeSpan Kept = TimeSpan.FromDays(400);

    private const int MostKept = 20_000;

    private static readonly TimeSpan SeenBeat = TimeSpan.FromSeconds(30),
        PruneBeat = TimeSpan.FromHours(6);

    private readonly ITimer seen,
        prune;

    public Upkeep(SentryStore store, TimeProvider clock, Registry registry, Record logbook, SettingsFile settings)
    {
        seen = clock.CreateTimer(
            _ => store.SetFact(Registry.LastSeenFact, clock.GetUtcNow().ToString("O", CultureInfo.InvariantCulture)),
            null,
            TimeSpan.Zero,
            SeenBeat
        );
        prune = clock.CreateTimer(
            _ =>
            {
                foreach (var actor in registry.All)
                    store.Prune(actor.Id, clock.GetUtcNow() - Kept, MostKept);
                store.Prune(clock.GetUtcNow() - Kept);
                store.Check();
                LookAfter(store, logbook, clock.GetUtcNow() - settings.Now.LogbookFor, settings.Now.LogbookMost);
            },
            null,
            TimeSpan.FromMinutes(1),
            PruneBeat
        );
    }

    /// <summary>What is too old goes; a person hears once of a logbook that is not as it was written.</summary>
    private static void LookAfter(SentryStore store, Record logbook, DateTimeOffset oldest, int most)
    {
        try
        {
            if (store.Cut(oldest, most) is { } cut)
            {
                logbook.Note(cut.Tells);
                cut.Drop();
            }

            var known = store.Broken;
            if (store.Prove().Why is { } why && why != known)
                logbook.Note(new LogbookBrokenEntry(why), tells: true);
        }
        catch (SqliteException)
        {
            // A store that cannot be read is told by its own check.
        }
    }

    public void Dispose()
    {
        seen.Dispose();
        prune.Dispose();
    }
}
