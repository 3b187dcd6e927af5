using System.Globalization;
using System.Text.Json;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Checks;
using CalmSentry.Linux.Boot;
using CalmSentry.Server.Http;
using CalmSentry.Store;

namespace CalmSentry.Server.Api;

/// <summary>Answers why a service is, or was, as it is: from the record alone.</summary>
internal static class WhyFinder
{
    private const int Entries = 2000,
        Runs = 50,
        Told = 10;

    public static async Task<IResult> Of(ServiceActor actor, DateTimeOffset? at, SentryStore store, Clocks clocks)
    {
        await store.Settled().ConfigureAwait(false); // what was just seen is part of the record
        return at is { } time ? Then(actor, time, store, clocks) : Answer(Now(actor, store, clocks));
    }

    private static WhyView Now(ServiceActor actor, SentryStore store, Clocks clocks)
    {
        var (definition, now, view) = (actor.Definition, actor.Situation, actor.View);
        var could = Outlook.Could(definition, now).Select(one => new WhyCould(one.Text, one.Command)).ToList();
        if (StopChecks.Advice(definition, store).Length > 0)
            could.Add(new("Give its wind-down the time its stops take", $"calm check {definition.Name}"));
        return new WhyView
        {
            Name = definition.Name,
            Title = definition.Title,
            At = clocks.Now,
            Past = false,
            State = view.State,
            Health = view.Health,
            Since = view.Since,
            Said = view.Why + (view.Health == HealthLevel.Good ? $" Health good: {view.HealthWhy}." : ""),
            Because = Because(actor, null, store),
            LastFailure =
                now.LastEnd is { Bad: true } || now.BadEnds.Length > 0 ? LastFailure(actor, null, store) : null,
            Next = [.. Outlook.Next(definition, now).Select(next => new WhyNext(next.At, next.Text))],
            Could = could,
        };
    }

    private static IResult Then(ServiceActor actor, DateTimeOffset time, SentryStore store, Clocks clocks)
    {
        var name = actor.Definition.Name;
        if (time > clocks.Now)
        {
            return Problems.Of(
                400,
                ProblemCode.TimeAhead,
                "Not yet",
                $"{Local(time)} is in the future; only the past and the present are on record.",
                $"calm why {name}"
            );
        }

        if (store.MomentAt(actor.Id, time) is not { } then)
        {
            return Problems.Of(
                404,
                ProblemCode.NoRecord,
                "Before its record",
                $"The record of {name} begins later than {Local(time)}.",
                $"calm logbook {name}"
            );
        }

        return Answer(
            new WhyView
            {
                Name = name,
                Title = actor.Definition.Title,
                At = time,
                Past = true,
                State = Words.To<ServiceState>(then.State),
                Health = Words.To<HealthLevel>(then.Health),
                Since = then.At,
                Said = Said(actor, then, store),
                Because = Because(actor, time, store),
                LastFailure = then.Situation is { LastEnd.Bad: true } ? LastFailure(actor, time, store) : null,
                Next = Next(actor, then, store),
                Could = [new("See its runs of that time", $"calm runs {name} --before '{Local(time)}'")],
            }
        );
    }

    /// <summary>The explanation as it was then, made of the definition and the situation of then.</summary>
    private static string Said(ServiceActor actor, StoredMoment then, SentryStore store) =>
        then.Situation is { } situation && DefinitionOf(actor, then, store) is { } definition
            ? Explanation.Of(definition, situation, TimeZoneInfo.Local)
            : then.Why ?? "What was on record of that moment cannot be read any more.";

    private static IReadOnlyList<WhyNext> Next(ServiceActor actor, StoredMoment then, SentryStore store) =>
        then.Situation is { } situation && DefinitionOf(actor, then, store) is { } definition
            ? [.. Outlook.Next(definition, situation).Select(next => new WhyNext(next.At, next.Text))]
            :
            [
                .. (then.Next ?? "")
                    .Split('\n', StringSplitOptions.RemoveEmptyEntries)
                    .Select(line => new WhyNext(null, line)),
            ];

    private static Definition? DefinitionOf(ServiceActor actor, StoredMoment then, SentryStore store)
    {
        if (then.Revision == actor.Revision)
            return actor.Definition;
        if (then.Revision is not { } revision || store.Document(actor.Id, revision) is not { } document)
            return null;
        using var json = JsonDocument.Parse(document);
        return DefinitionReader.Read(JsonNodes.Read(json.RootElement)).Definition;
    }

    public static async Task<BoardView> Board(Registry registry, SentryStore store, TimeProvider clock)
    {
        await store.Settled().ConfigureAwait(false);
        var views = registry.Views;
        var rest = views.Where(view => view.Attention is null).ToList();
        return new()
        {
            Host = Machine.HostName,
            At = clock.GetUtcNow(),
            NeedAttention =
            [
                .. views.Where(view => view.Attention is not null).OrderBy(view => view.HealthSince ?? view.Since),
            ],
            Asking = [.. rest.Where(view => view.Asks is not null)],
            Apart = [.. views.Where(view => view.ApartSince is not null).OrderBy(view => view.ApartSince)],
            Moving =
            [
                .. rest.Where(view =>
                    view.State is ServiceState.Waiting or ServiceState.Starting or ServiceState.Stopping
                ),
            ],
            Well = rest.Count(view => view.State is ServiceState.Running or ServiceState.Resting),
            Down = rest.Count(view => view.State == ServiceState.Stopped),
            Told = [.. store.Told(Told).Reverse().Select(EntryViews.Of)],
        };
    }

    private static List<WhyStep> Because(ServiceActor actor, DateTimeOffset? until, SentryStore store)
    {
        var entries = store.Logbook(actor.Id, Entries, until);
        var steps = Story.Of([.. entries.Select(stored => new StoryEntry(stored.At, stored.Entry, stored.By))]);
        return [.. steps.Select(step => new WhyStep(step.At, step.Until, step.Text, step.By))];
    }

    private static WhyFailure? LastFailure(ServiceActor actor, DateTimeOffset? until, SentryStore store)
    {
        var run = store
            .Runs(actor.Id, Runs, until)
            .FirstOrDefault(run => run is { Bad: true, Ended: not null, Outcome: not null });
        return run is null
            ? null
            : new(
                run.Number,
                run.Ended!.Value,
                OutcomeWords.Of(run.Outcome!),
                run.Evidence is { } evidence ? evidence.LastLines : []
            );
    }

    private static Microsoft.AspNetCore.Http.HttpResults.JsonHttpResult<WhyView> Answer(WhyView view) =>
        TypedResults.Json(view, ApiJson.Plain.WhyView);

    private static string Local(DateTimeOffset time) =>
        WallClock.In(time, TimeZoneInfo.Local).ToString("yyyy-MM-dd HH:mm:ss", CultureInfo.InvariantCulture);
}
