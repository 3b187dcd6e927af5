using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Settling;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Plans;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Settling;
using CalmSentry.Engine.Swaps;
using CalmSentry.Inspection.Checks;
using CalmSentry.Inspection.Rehearsals;
using CalmSentry.Linux.Accounts;
using CalmSentry.Server.Doors;
using CalmSentry.Store;
using Microsoft.AspNetCore.Http.HttpResults;
using Record = CalmSentry.Engine.Logbook.Record;

namespace CalmSentry.Server.Api;

/// <summary>Steps of a settling, carried out by the calls that somebody would make by hand: with the same checks and refusals.</summary>
internal sealed class SettleSteps(IServiceProvider parts) : ISettleSteps
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(1),
        LongestWait = TimeSpan.FromMinutes(15);

    private readonly Registry registry = parts.GetRequiredService<Registry>();
    private readonly SentryStore store = parts.GetRequiredService<SentryStore>();
    private readonly Clocks clocks = parts.GetRequiredService<Clocks>();

    public async Task<StepCame> Do(Settlement settlement, SettleStep step, bool again, Action<string> say)
    {
        // As whoever asked for all of it, who may be gone by now.
        var context = new DefaultHttpContext { RequestServices = parts };
        new Caller(settlement.By.Name, CallerKind.Sentry, From: settlement.By.From).AttachTo(context);
        say(step.What);
        var began = clocks.Time.GetTimestamp();
        for (var told = false; ; told = true)
        {
            var problem = await Tried().ConfigureAwait(false);
            if (problem is not { Busy: { } with } || clocks.Time.GetElapsedTime(began) > LongestWait)
                return problem.Came;
            // What else has it in hand goes first: a drill, a restart of several, new files.
            if (!told)
                say($"{step.Name} is in the hand of something else, which is waited for: {with}");
            await Task.WhenAny(registry.Readiness.NextChange(), clocks.Delay(Beat)).ConfigureAwait(false);
        }

        async Task<(StepCame Came, string? Busy)> Tried()
        {
            try
            {
                return (Came(await Carry(settlement, step, again, context).ConfigureAwait(false)), null);
            }
            catch (BusyException busy)
            {
                return (new(false, $"{busy.Message}."), busy.Message);
            }
        }
    }

    private static StepCame Came(IResult? result) =>
        result switch
        {
            null => new(true, "It is so already."),
            JsonHttpResult<Answer> { Value: { } answer } => new(answer.CameTrue, answer.Said),
            JsonHttpResult<Problem> { Value: { } problem } => new(false, problem.Detail, problem.Next),
            _ => new(false, "The sentry's own answer was none."),
        };

    /// <returns>Null: it is so already.</returns>
    private async Task<IResult?> Carry(Settlement settlement, SettleStep step, bool again, HttpContext context)
    {
        var actor = registry.Named(step.Name);
        switch (step.Deed)
        {
            case SettleDeed.MakeAccount:
                return again && Account.Named(step.Name) is not null
                    ? null
                    : await AccountRoutes
                        .Create(
                            step.Name,
                            null,
                            false,
                            store,
                            Of<Record>(),
                            Of<Engine.Accounts.Permits>(),
                            Of<Engine.Accounts.StateRooms>(),
                            context
                        )
                        .ConfigureAwait(false);
            case SettleDeed.Permit:
                return await AccountRoutes
                    .PermitAccount(
                        step.Name,
                        false,
                        registry,
                        store,
                        Of<Record>(),
                        Of<Engine.Accounts.Permits>(),
                        context
                    )
                    .ConfigureAwait(false);
            case SettleDeed.Forbid:
                return await AccountRoutes
                    .Forbid(step.Name, false, registry, store, Of<Record>(), Of<Engine.Accounts.Permits>(), context)
                    .ConfigureAwait(false);
            case SettleDeed.RemoveAccount:
                return Account.Named(step.Name) is null
                    ? null
                    : await AccountRoutes
                        .Remove(step.Name, false, registry, Of<RunTools>(), Of<Record>(), context)
                        .ConfigureAwait(false);
            case SettleDeed.Grant or SettleDeed.TakeBack:
                return await AccountRoutes
                    .Folder(
                        step.Name,
                        new FolderRight(step.To!, step.Write ? "write" : "read"),
                        Of<RunTools>(),
                        Of<Record>(),
                        context,
                        give: step.Deed == SettleDeed.Grant,
                        dry: false,
                        yes: step.Deed == SettleDeed.TakeBack
                    )
                    .ConfigureAwait(false);
            case SettleDeed.Wrap:
                return again && actor is not null && Same(actor, step.Document!)
                    ? null
                    : await WrapRoutes
                        .Add(
                            Sent(settlement, step),
                            false,
                            context,
                            registry,
                            Of<Checker>(),
                            store,
                            Of<Record>(),
                            Of<Places>(),
                            clocks.Time
                        )
                        .ConfigureAwait(false);
            case SettleDeed.Rename:
                return again && actor is null && registry.Named(step.To!) is not null ? null
                    : actor is null ? Gone(step.Name)
                    : await RenameRoutes
                        .Rename(
                            Found(actor),
                            step.To!,
                            false,
                            context,
                            registry,
                            Of<Renaming>(),
                            Of<SwapRoom>(),
                            Of<RehearsalRoom>(),
                            store,
                            Of<Places>()
                        )
                        .ConfigureAwait(false);
            case SettleDeed.Unwrap or SettleDeed.Stop when actor is null:
                return null;
        }

        if (actor is null)
            return Gone(step.Name);
        switch (step.Deed)
        {
            case SettleDeed.Unwrap:
                return await WrapRoutes
                    .Unwrap(Found(actor), null, null, false, registry, store, Of<Places>(), context)
                    .ConfigureAwait(false);
            case SettleDeed.Adjust when !again && ChangedSince(actor, step.Seen) is { } outdated:
                return outdated;
            case SettleDeed.Adjust:
                return await WrapRoutes
                    .Put(
                        actor,
                        Sent(settlement, step),
                        false,
                        context,
                        registry,
                        Of<Checker>(),
                        store,
                        Of<Record>(),
                        clocks.Time
                    )
                    .ConfigureAwait(false);
            case SettleDeed.Stop:
                return await RunRoutes
                    .Stop(Found(actor), "leave", null, false, registry, Of<PlanRoom>(), store, context)
                    .ConfigureAwait(false);
            // A restart that was begun when the server was lost goes on by itself: what is left of it is to be waited for.
            case SettleDeed.Restart when !again || actor.Situation.LastRun == step.LastRun:
                return await RunRoutes
                    .Restart(
                        Found(actor),
                        null,
                        "stop",
                        false,
                        false,
                        registry,
                        Of<PlanRoom>(),
                        Of<Checker>(),
                        store,
                        Of<Places>(),
                        Of<Record>(),
                        clocks,
                        context
                    )
                    .ConfigureAwait(false);
            default:
                return await RunRoutes
                    .Start(
                        Found(actor),
                        null,
                        null,
                        null,
                        false,
                        registry,
                        Of<Checker>(),
                        store,
                        Of<Record>(),
                        Of<Places>(),
                        clocks,
                        context
                    )
                    .ConfigureAwait(false);
        }
    }

    private T Of<T>()
        where T : notnull => parts.GetRequiredService<T>();

    private static Called Found(ServiceActor actor) => new(actor.Definition.Name, actor, null, null);

    private static IResult Gone(string name) => Http.Problems.NoSuchService(name, nearest: null);

    private static bool Same(ServiceActor actor, string document) =>
        Registry.Read(document).Definition is { } definition
        && DefinitionChanges.Between(actor.Definition, definition).Count == 0;

    /// <summary>What somebody has changed since the list was made is not written over. That it was renamed, or what it needs, is the
    /// settling's own work.</summary>
    private IResult? ChangedSince(ServiceActor actor, int revision)
    {
        if (revision == 0 || revision == actor.Revision || store.Document(actor.Id, revision) is not { } document)
            return null;
        var was = Registry.Read(document).Definition;
        var changed = was is null
            ? []
            : DefinitionChanges
                .Between(was, actor.Definition)
                .Where(change =>
                    change.Key != "name"
                    && !change.Key.StartsWith("begin.needs", StringComparison.Ordinal)
                    && !(change.Key == "title" && actor.Definition.Title == actor.Definition.Name)
                )
                .ToList();
        return changed.Count == 0
            ? null
            : Http.Problems.Of(
                412,
                ProblemCode.RevisionOutdated,
                "Somebody has changed it meanwhile",
                $"{actor.Definition.Name} was changed since the list was made, and is left as it is:\n  {string.Join("\n  ", changed)}",
                $"calm history {actor.Definition.Name}"
            );
    }

    private Sent Sent(Settlement settlement, SettleStep step) =>
        Reading.Of(Registry.Given(step.Document!)) with
        {
            Source = step.Source,
            Settled = settlement.Back is null ? new(0, clocks.Now, settlement.Directory, settlement.Head) : null,
        };
}
