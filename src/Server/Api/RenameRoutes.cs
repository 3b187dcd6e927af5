using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Swaps;
using CalmSentry.Inspection.Rehearsals;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.AspNetCore.Http.HttpResults;

namespace CalmSentry.Server.Api;

/// <summary>Rename: another short name, and the whole record with it.</summary>
internal static class RenameRoutes
{
    public static void MapRenaming(this IEndpointRouteBuilder api) =>
        api.OneService().MapPost("/rename", Rename).Produces<Answer>().Refuses(400, 409, 422).May(Permission.Define);

    /// <summary>
    /// Give a service that is at rest another short name. Its record, output, state directory and secrets come along, and
    /// services that need it need it by the new name.
    /// </summary>
    /// <param name="called">The service.</param>
    /// <param name="to">The new name; one that is no short name becomes the title, and a short name is made from it.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Rename(
        Called called,
        string to,
        bool? dry,
        HttpContext context,
        Registry registry,
        Renaming renaming,
        SwapRoom swaps,
        RehearsalRoom rehearsals,
        SentryStore store,
        Places places
    )
    {
        var actor = called.Service;
        var now = ServiceName.IsValid(to) ? to : ServiceName.From(to);
        if (now.Length == 0)
            return Problems.Of(
                400,
                ProblemCode.NameNotPossible,
                "No short name",
                $"No short name can be made of '{to}': {ServiceName.Allowed}. Nothing was changed.",
                $"calm rename {actor.Definition.Name} NEW-NAME"
            );
        await registry.Shaping.WaitAsync(context.RequestAborted).ConfigureAwait(false);
        try
        {
            // What others changed a moment ago is read with it.
            await store.Settled().ConfigureAwait(false);
            var was = actor.Definition.Name;
            if (now == was)
                return Unchanged(actor, to);
            if (registry.UnreadableOf(now) is not null)
                return WrapRoutes.Taken(now);
            // A title that another has would make the two hard to tell apart.
            if ((registry.Find(now) ?? registry.Find(to)) is { } other && other != actor)
                return WrapRoutes.Taken(other.Definition.Name);
            if (Refusal(actor, now, renaming, swaps, rehearsals, store) is { } refusal)
                return refusal;
            var given = DefinitionTrees.Overlay(registry.Given(actor), Names(to, now));
            var (definition, errors) = DefinitionReader.Read(given);
            if (definition is null)
                return Problems.Of(
                    422,
                    ProblemCode.DefinitionInvalid,
                    "The definition is not valid",
                    $"{string.Join("; ", errors)}. Nothing was changed."
                );
            if (registry.Circle(definition) is { } circle)
                return WrapRoutes.Circle(circle);
            var document = JsonNodes.Write(given);
            var dependents = registry
                .All.Where(other => other.Definition.Begin.NeededServices.Contains(was))
                .Select(other => other.Definition.Name)
                .Order(StringComparer.Ordinal)
                .ToList();
            if (dry == true)
                return Reply.WouldDo(Intent.Rename(actor.Definition, definition, dependents), actor.View);
            var (why, renamed) = await renaming
                .Do(actor, definition, document, Caller.Of(context).Who)
                .ConfigureAwait(false);
            if (why is not null)
                return Problems.Of(
                    409,
                    ProblemCode.NotRenamed,
                    "It keeps its name",
                    $"{actor.Definition.Title} keeps its name, for {why.TrimEnd('.')}. Nothing was changed.",
                    $"calm show {was}"
                );
            return Reply.Of(AnswerCode.Renamed, Said(actor, was, renamed, document, places), actor);
        }
        finally
        {
            registry.Shaping.Release();
        }
    }

    private static JsonHttpResult<Answer> Unchanged(ServiceActor actor, string to) =>
        Reply.Of(
            AnswerCode.Unchanged,
            $"{actor.Definition.Name} is its name already; nothing was changed."
                + (
                    ServiceName.IsValid(to) || to == actor.Definition.Title
                        ? ""
                        : $" Its title is another thing: calm adjust {actor.Definition.Name} --title {CommandLine.Quoted(to)}"
                ),
            actor
        );

    /// <summary>What stands in the way, whoever asks.</summary>
    private static IResult? Refusal(
        ServiceActor actor,
        string now,
        Renaming renaming,
        SwapRoom swaps,
        RehearsalRoom rehearsals,
        SentryStore store
    )
    {
        var (name, title) = (actor.Definition.Name, actor.Definition.Title);
        if (!actor.IsAtRest)
            return Problems.Of(
                409,
                ProblemCode.NotAtRest,
                "It is not at rest",
                $"{title} is {Words.Of(actor.View.State)}, and its output and state directory go by its name. Nothing was changed.",
                $"calm stop {name}   then: calm rename {name} {now}, calm start {now}"
            );
        if ((rehearsals.Running(name) ?? rehearsals.Running(now)) is { } rehearsed)
            return Problems.Of(
                409,
                ProblemCode.AlreadyLive,
                "It is being rehearsed",
                $"{rehearsed} Nothing was changed."
            );
        if (store.Plans().Any(one => one.Plan?.Concerns(name) == true))
            return Problems.Of(
                409,
                ProblemCode.Busy,
                "Something is under way",
                $"A drill, a boot or an ordered stop that {title} is part of is under way. Nothing was changed.",
                "'calm logbook' shows what; try again when it is over."
            );
        if (swaps.UnderWay(actor.Id) is not null)
            return SwapRoutes.UnderWay(actor, swaps);
        return renaming.LeftOver(now) is { } left
            ? Problems.Of(
                409,
                ProblemCode.NameLeftOver,
                "The name has something left",
                $"{left} is of an earlier service called '{now}', and would be mixed with what {title} has. Nothing was changed.",
                $"Move it away, or choose another name."
            )
            : null;
    }

    /// <summary>The keys of a definition that say what it is called.</summary>
    private static MapNode Names(string to, string now) =>
        to == now
            ? new([new("name", new ScalarNode(now))])
            : new([new("name", new ScalarNode(now)), new("title", new ScalarNode(to))]);

    private static string Said(
        ServiceActor actor,
        string was,
        IReadOnlyCollection<string> dependents,
        string document,
        Places places
    )
    {
        var now = actor.Definition.Name;
        var said =
            $"{was} is {now} now, revision {actor.Revision}. Its record, output, state directory and secrets came along.";
        if (dependents.Count > 0)
            said +=
                $" {string.Join(", ", dependents)} {(dependents.Count == 1 ? "needs" : "need")} it by its new name.";
        // What a definition says of itself is its own affair, and would lead nowhere now.
        foreach (var gone in (string[])[places.StateOf(was), places.OutputDirectoryOf(was)])
            if (document.Contains(JsonEncodedText.Encode(gone).ToString(), StringComparison.Ordinal))
                said += $" Its definition names {gone}, which is not there any more: 'calm check {now}' says where.";
        return said;
    }
}
