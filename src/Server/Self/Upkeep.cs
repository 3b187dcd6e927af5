using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Store;
using Microsoft.Data.Sqlite;

namespace CalmSentry.Server.Self;

/// <summary>
/// What is done now and then: the mark that the server is alive, dropping what is too old to be of use, and giving memory back.
/// </summary>
internal sealed class Upkeep : IDisposable
{
    /// <summary>A little over the longest window that availability is told for.</summary>
    private static readonly TimeSpan Kept = TimeSpan.FromDays(400);

    private const int MostKept = 20_000;

    private static readonly TimeSpan SeenBeat = TimeSpan.FromSeconds(30),
        PruneBeat = TimeSpan.FromHours(6),
        MemoryBeat = TimeSpan.FromMinutes(1);

    /// <summary>So much has to have been used since the last time for memory to be closed up: what rests is left alone.</summary>
    private const long MuchUsed = 32 << 20;

    private readonly ITimer seen,
        prune,
        memory;

    private long usedBefore;

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
        memory = clock.CreateTimer(_ => CloseUp(), null, MemoryBeat, MemoryBeat);
    }

    /// <summary>
    /// What a thousand starts have used stays with the collector until it needs more; a host has other use for it. It stops everything
    /// for some milliseconds, a minute after much was done at the soonest.
    /// </summary>
    private void CloseUp()
    {
        var used = GC.GetTotalAllocatedBytes();
        if (used - usedBefore < MuchUsed)
            return;
        GC.Collect(GC.MaxGeneration, GCCollectionMode.Aggressive, blocking: true, compacting: true);
        usedBefore = used;
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
        memory.Dispose();
    }
}
