using System.Collections.Concurrent;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Reports;
using CalmSentry.Server.Services;

namespace CalmSentry.Server.Drills;

/// <summary>
/// Winds several services down in order: each as soon as all that need it are down, those that do not need each other
/// at the same time.
/// </summary>
internal sealed class OrderedStop(Registry registry, House house)
{
    private readonly ConcurrentDictionary<string, Lazy<Task>> stops = new(StringComparer.Ordinal);
    private readonly ConcurrentQueue<ReportedStop> done = [];
    private readonly DateTimeOffset began = house.Now;
    private volatile bool over;

    /// <summary>Those that were running, in the order they ended.</summary>
    /// <param name="within">After this long what is left is ended by force; null: each has the time its wind-down gives
    /// it.</param>
    /// <param name="say">Hears a clause for each that has ended.</param>
    public async Task<IReadOnlyList<ReportedStop>> Stop(
        IReadOnlySet<string> names,
        Principal by,
        TimeSpan? within = null,
        Action<string>? say = null
    )
    {
        using var limit = new CancellationTokenSource();
        if (within is { } time)
            limit.CancelAfter(time);
        using var force = limit.Token.Register(() =>
        {
            over = true;
            house.Logbook.Note(new(EntryCode.TimeOver) { Limit = within }, by);
            foreach (var name in names)
                _ = registry.Named(name)?.Ask(new ForceAsked(by));
        });
        await Task.WhenAll(names.Select(name => One(name, names, by, say))).ConfigureAwait(false);
        return [.. done];
    }

    private Task One(string name, IReadOnlySet<string> names, Principal by, Action<string>? say) =>
        stops
            .GetOrAdd(
                name,
                _ =>
                    new(() =>
                        Task.Run(async () =>
                        {
                            await Task.WhenAll(
                                    registry
                                        .Graph.DependentsOf(name)
                                        .Where(names.Contains)
                                        .Select(dependent => One(dependent, names, by, say))
                                )
                                .ConfigureAwait(false);
                            if (
                                registry.Named(name) is not { } actor
                                || actor.Situation is { Run: null, Phase: not Phase.Waiting }
                            )
                                return;
                            var wasLive = actor.Situation.Run is not null;
                            var from = house.Now;
                            await actor.Ask(new StopAsked(by)).ConfigureAwait(false);
                            if (over)
                                await actor.Ask(new ForceAsked(by)).ConfigureAwait(false);
                            var now = await actor
                                .Until(situation => situation.Phase != Phase.Stopping, CancellationToken.None)
                                .ConfigureAwait(false);
                            if (!wasLive)
                                return;
                            var forced = now.LastEnd?.Forced == true;
                            done.Enqueue(new(name, from - began, house.Now - from, forced));
                            say?.Invoke($"{name} is stopped{(forced ? ": killed" : "")}");
                        })
                    )
            )
            .Value;
}
