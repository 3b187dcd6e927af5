using System.Collections.Concurrent;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Services;
using Microsoft.AspNetCore.Http.Features;

namespace CalmSentry.Server.Rehearsals;

/// <summary>
/// The rehearsals being played now: of each definition's name at most one, and none while its service runs.
/// </summary>
internal sealed class RehearsalRoom(House house, Registry registry, IHostApplicationLifetime life)
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

    /// <summary>Plays one and answers with what happens, a line of JSON each.</summary>
    public async Task Play(Definition definition, TimeSpan length, Caller caller, HttpContext context)
    {
        using var rehearsal = Rehearsal.Begin(house, definition, length);
        if (!played.TryAdd(definition.Name, rehearsal))
            rehearsal.End();
        house.Logbook.Note(definition.Name, new RehearsedEntry(definition.Account, length), caller.Who);
        context.Response.ContentType = "application/x-ndjson";
        context.Features.Get<IHttpResponseBodyFeature>()?.DisableBuffering();
        // Whoever watches has gone: there is nobody to report to, so it is wound down at once.
        await using var gone = context.RequestAborted.Register(rehearsal.End).ConfigureAwait(false);
        await using var over = life.ApplicationStopping.Register(rehearsal.End).ConfigureAwait(false);
        try
        {
            await foreach (var happened in rehearsal.Events(CancellationToken.None).ConfigureAwait(false))
            {
                if (context.RequestAborted.IsCancellationRequested)
                    continue;
                await context
                    .Response.WriteAsync(
                        JsonSerializer.Serialize(happened, ApiJson.Plain.RehearsalEvent) + "\n",
                        CancellationToken.None
                    )
                    .ConfigureAwait(false);
                await context.Response.Body.FlushAsync(CancellationToken.None).ConfigureAwait(false);
            }
        }
        finally
        {
            played.TryRemove(KeyValuePair.Create(definition.Name, rehearsal));
        }
    }
}
