using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Boot;
using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>Gathers what happened in a time from the record.</summary>
internal static class Reporting
{
    /// <summary>So many times as far as a run has come it is said how it will grow.</summary>
    private const int FarAhead = 24;

    private const int MostEntries = 1000,
        MostAlerts = 200,
        MostPlanned = 100,
        MostRuns = 5000;

    private static readonly TimeSpan GrowthFresh = TimeSpan.FromMinutes(1),
        GrowsSoon = TimeSpan.FromDays(7);

    private static readonly TimeSpan Ahead = TimeSpan.FromDays(1);

    private static readonly EntryKind[] Changes =
    [
        EntryKinds.Of<WrappedEntry>(),
        EntryKinds.Of<AdjustedEntry>(),
        EntryKinds.Of<RenamedEntry>(),
        EntryKinds.Of<SettleEndedEntry>(),
        EntryKinds.Of<UnwrappedEntry>(),
        EntryKinds.Of<SwappedEntry>(),
        EntryKinds.Of<SwapReturnedEntry>(),
        EntryKinds.Of<SecretSetEntry>(),
        EntryKinds.Of<SecretRemovedEntry>(),
        EntryKinds.Of<AccountMadeEntry>(),
        EntryKinds.Of<AccountRemovedEntry>(),
        EntryKinds.Of<AccountPermittedEntry>(),
        EntryKinds.Of<AccountForbiddenEntry>(),
        EntryKinds.Of<FolderGrantedEntry>(),
        EntryKinds.Of<FolderTakenEntry>(),
    ];

    private static readonly EntryKind[] Warnings =
    [
        EntryKinds.Of<LogbookBrokenEntry>(),
        EntryKinds.Of<TellStuckEntry>(),
        EntryKinds.Of<ForwardStuckEntry>(),
        EntryKinds.Of<SignalMissedEntry>(),
        EntryKinds.Of<TroubleEntry>(),
        EntryKinds.Of<GuardEntry>(),
        EntryKinds.Of<AbsentEntry>(),
    ];

    public static Report Of(SentryStore store, Registry registry, DateTimeOffset from, DateTimeOffset until)
    {
        return new()
        {
            Host = Machine.HostName,
            From = from,
            Until = until,
            Services =
            [
                .. registry.All.OrderBy(actor => actor.Definition.Title, StringComparer.Ordinal).Select(Service),
            ],
            Alerts =
            [
                .. store
                    .Alerts(MostAlerts)
                    .Select(one => one.Alert)
                    .Where(alert => alert.PartOf is null && (alert.OverAt is null || alert.OverAt >= from))
                    .OrderBy(alert => alert.Began),
            ],
            Changes = Entries(Changes),
            Missed = Entries([
                EntryKinds.Of<MomentsMissedEntry>(),
                EntryKinds.Of<JobLateEntry>(),
                EntryKinds.Of<JobOverdueEntry>(),
            ]),
            Planned =
            [
                .. Engine
                    .Rhythms.Ahead.Of(registry.All, store, until, Ahead)
                    .Planned.Where(one => one.Moments.Count > 0)
                    .Take(MostPlanned)
                    .Select(one => $"{At(one.Moments[0])} {one.Title}: {one.What} ({one.When})"),
            ],
            Warnings = Entries(Warnings),
            Growth =
            [
                .. Entries([EntryKinds.Of<DiskWillFillEntry>(), EntryKinds.Of<MemoryWillFillEntry>()]),
                .. registry.All.Select(actor => Grows(actor, until)).OfType<string>(),
            ],
            Apart =
            [
                .. registry
                    .All.Where(actor => actor.Apart is not null)
                    .OrderBy(actor => actor.Apart)
                    .Select(actor =>
                        $"{actor.Definition.Title}, since {At(actor.Apart!.Value)}{(actor.Files?.Directory is { } place ? $": {place}" : "")}"
                    ),
            ],
            Found = Entries([EntryKinds.Of<FoundEntry>(), EntryKinds.Of<CopySeenEntry>()]),
        };

        Reported Service(ServiceActor actor)
        {
            var (definition, runs) = (actor.Definition, store.Runs(actor.Id, MostRuns));
            return new(
                definition.Name,
                definition.Title,
                definition.IsJob,
                [.. store.Turns(actor.Id, from)],
                store.EndsSince(actor.Id, from).Falls,
                definition.IsJob ? runs.Count(run => run.Ended >= from && run.Outcome?.IsGood == true) : 0,
                Attention.Of(definition, actor.Situation)
            );
        }

        ImmutableArray<string> Entries(EntryKind[] kinds) =>
            [
                .. store
                    .Logbook(
                        new LogQuery(MostEntries)
                        {
                            Kinds = kinds,
                            Since = from,
                            Until = until,
                        }
                    )
                    .Select(one =>
                        $"{At(one.At)} {(one.Service is { } service ? $"{service}: " : "")}{one.Entry.Text}"
                        + (one.By is { } by ? $" ({by})" : "")
                    ),
            ];
    }

    /// <summary>As it grows now: what grew in a run that has ended is none of tomorrow's.</summary>
    private static string? Grows(ServiceActor actor, DateTimeOffset until)
    {
        if (actor.Situation.Run is not { Launched: { } launched } || actor.Definition.Resources.Memory is not { } limit)
            return null;
        var (sample, trend) = actor.Vitals.Growth(GrowthFresh);
        return
            trend?.Until(sample.Memory, limit) is { } left
            && left < GrowsSoon
            // What grew for minutes says nothing of days.
            && left < (until - launched) * FarAhead
            ? $"{actor.Definition.Title}: its memory ({Size.About(sample.Memory)}) reaches its limit of {Size.Write(limit)} "
                + $"in {Duration.Write(Rounded(left))} as it grows now"
            : null;
    }

    private static TimeSpan Rounded(TimeSpan left) =>
        left > TimeSpan.FromHours(2)
            ? TimeSpan.FromHours(Math.Round(left.TotalHours))
            : TimeSpan.FromMinutes(Math.Max(1, Math.Round(left.TotalMinutes)));

    private static string At(DateTimeOffset time) =>
        WallClock.In(time, TimeZoneInfo.Local).ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);
}
