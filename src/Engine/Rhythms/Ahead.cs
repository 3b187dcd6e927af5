using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Store;

namespace CalmSentry.Engine.Rhythms;

/// <summary>What is planned, as the API shows it.</summary>
internal static class Ahead
{
    private const int MostCounted = 10_000,
        MostShown = 1000;

    /// <param name="services">Whose moments are asked for.</param>
    public static AheadView Of(IEnumerable<IRunning> services, SentryStore store, DateTimeOffset now, TimeSpan length)
    {
        var (all, until) = (services.ToList(), now + length);
        return new(
            now,
            until,
            Sorted(all.Where(actor => actor.Situation.Rhythm is not null).SelectMany(actor => Of(actor, store, until))),
            // A quiet time is nothing that takes its turn or clashes.
            Sorted(
                all.SelectMany(actor =>
                    RhythmState
                        .InForce(actor.Definition, actor.Situation.Rhythm)
                        .OfType<PlannedQuiet>()
                        .Select(quiet =>
                            View(actor, quiet, quiet.Moments.Following(now, quiet.Clock), until) with
                            {
                                LastsMs = quiet.For.TotalMilliseconds,
                            }
                        )
                )
            )
        );
    }

    private static IReadOnlyList<PlannedView> Sorted(IEnumerable<PlannedView> views) =>
        [
            .. views
                .OrderBy(planned => planned.Moments is [var first, ..] ? first : DateTimeOffset.MaxValue)
                .ThenBy(planned => planned.Service, NaturalOrder.Names),
        ];

    private static IEnumerable<PlannedView> Of(IRunning actor, SentryStore store, DateTimeOffset until)
    {
        var (definition, rhythm) = (actor.Definition, actor.Situation.Rhythm!);
        var lengths = definition.IsJob ? store.RunLengths(actor.Id) : store.RestartLengths(actor.Id);
        foreach (var planned in RhythmState.InForce(definition, rhythm).Where(planned => planned is not PlannedQuiet))
            if (rhythm.Places.FirstOrDefault(place => place.Of == planned.Of) is { } place)
                yield return View(actor, planned, planned.Moments.Following(place.Taken, planned.Clock), until) with
                {
                    UsualMs = Percentile(lengths, 0.5),
                    SlowMs = Percentile(lengths, 0.95),
                };
    }

    private static PlannedView View(
        IRunning actor,
        Planned planned,
        IEnumerable<DateTimeOffset> following,
        DateTimeOffset until
    )
    {
        List<DateTimeOffset> moments = [.. following.TakeWhile(moment => moment <= until).Take(MostCounted)];
        var definition = actor.Definition;
        return new()
        {
            Service = definition.Name,
            Title = definition.Title,
            What = planned switch
            {
                PlannedRun => "run",
                PlannedQuiet => "quiet",
                _ => "restart",
            },
            When = planned.Moments.ToString(),
            Zone = planned.Clock.Id,
            Count = moments.Count,
            Moments = [.. moments.Take(MostShown).Select(moment => planned.DueOf(definition.Name, moment))],
        };
    }

    /// <param name="lengths">In any order.</param>
    private static double? Percentile(IReadOnlyList<TimeSpan> lengths, double share)
    {
        if (lengths.Count == 0)
            return null;
        var sorted = lengths.Order().ToList();
        return sorted[(int)Math.Ceiling(share * sorted.Count) - 1].TotalMilliseconds;
    }

    private const int MostNext = 10;

    public static MomentsView Moments(Rhythm when, TimeZoneInfo zone, DateTimeOffset now) =>
        Moments(when, zone, when.Following(now, zone));

    private static MomentsView Moments(Rhythm when, TimeZoneInfo zone, IEnumerable<DateTimeOffset> moments)
    {
        var host = TimeZoneInfo.Local;
        return new(
            when.ToString(),
            zone.Id,
            [
                .. moments
                    .Take(MostNext)
                    .Select(at =>
                    {
                        var (there, here) = (Clock(at, zone), Clock(at, host));
                        return new MomentView(at, there, here == there ? null : here);
                    }),
            ]
        );
    }

    /// <summary>The next moments of each rhythm of a definition; null: it plans none.</summary>
    public static IReadOnlyList<MomentsView>? Moments(Definition definition, DateTimeOffset now) =>
        definition.Rhythm.IsEmpty
            ? null
            :
            [
                // As they will be taken: each service has a second of its own for what only says every so often.
                .. definition.Rhythm.Select(planned =>
                    Moments(
                        planned.Moments,
                        planned.Clock,
                        planned
                            .Moments.Following(now - (planned.Spread ?? Planned.UsualSpread), planned.Clock)
                            .Select(moment => planned.DueOf(definition.Name, moment))
                            .Where(due => due > now)
                    )
                ),
            ];

    private static string Clock(DateTimeOffset at, TimeZoneInfo zone) =>
        WallClock.In(at, zone).ToString("ddd yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);
}
