using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;

namespace CalmSentry.Inspection.Rehearsals;

/// <summary>
/// The rehearsals being played now: of each definition's name at most one, and none while its service runs.
/// </summary>
/// <param name="over">Cancelled when the sentry ends.</param>
internal sealed class RehearsalRoom(
    RunTools tools,
    Record logbook,
    Clocks clocks,
    Registry registry,
    CancellationToken over
)
{
    private readonly ConcurrentDictionary<string, Rehearsal> played = new(StringComparer.Ordinal);

    public bool End(string id)
    {
        var found = played.Values.FirstOrDefault(one => one.Id == id);
        found?.End();
        return found is not null;
    }

    /// <summary>Why it cannot be rehearsed now, or null.</summary>
    public string? Running(string name) =>
        registry.Find(name) is { Situation.Run: not null } actor
            ? $"{actor.Definition.Title} runs as a service; a rehearsal beside it would be a second copy."
        : played.ContainsKey(name) ? $"Another rehearsal of {name} is being played."
        : null;

    /// <summary>Plays one, and tells what happens.</summary>
    /// <param name="gone">Whoever watches has gone: there is nobody to report to, so it is wound down at once.</param>
    public async IAsyncEnumerable<RehearsalEvent> Play(
        Definition definition,
        TimeSpan length,
        Principal by,
        [EnumeratorCancellation] CancellationToken gone
    )
    {
        using var rehearsal = Rehearsal.Begin(tools, logbook, clocks, definition, length);
        if (!played.TryAdd(definition.Name, rehearsal))
            rehearsal.End();
        logbook.Note(definition.Name, new RehearsedEntry(definition.Account, length), by);
        await using var left = gone.Register(rehearsal.End).ConfigureAwait(false);
        await using var ended = over.Register(rehearsal.End).ConfigureAwait(false);
        try
        {
            await foreach (var happened in rehearsal.Events(CancellationToken.None).ConfigureAwait(false))
                yield return happened;
        }
        finally
        {
            played.TryRemove(KeyValuePair.Create(definition.Name, rehearsal));
        }
    }
}
