using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Engine.Definitions;
using CalmSentry.Engine.Services;
using CalmSentry.Engine.Settling;
using CalmSentry.Inspection.Checks;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.Net.Http.Headers;

namespace CalmSentry.Server.Api;

/// <summary>What a service's definition was, and that it is so again.</summary>
internal static class RevisionRoutes
{
    private const int Most = 1000;

    public static void MapRevisions(this IEndpointRouteBuilder api)
    {
        var one = api.OneService();
        one.MapGet("/revisions", All).Produces<IReadOnlyList<RevisionView>>().Refuses(400).May(Permission.Read);
        one.MapGet("/revisions/{revision}", File).Produces<string>(200, "application/yaml").May(Permission.Read);
        one.MapGet("/revisions/{revision}/difference", Difference).Produces<RevisionDifference>().May(Permission.Read);
        one.MapPost("/revisions/{revision}/revert", Revert)
            .Produces<Answer>()
            .Refuses(409, 412, 422)
            .May(Permission.Define);
    }

    /// <summary>Revisions of a service's definition, newest first: when and by whom each was given, and what it changed.</summary>
    /// <param name="called">The service.</param>
    /// <param name="last">How many at most, 1 to 1,000; left out: 50.</param>
    public static async Task<IResult> All(Called called, int? last, SentryStore store)
    {
        if (last is < 1 or > Most)
            return Problems.NotSoMany(last, Most);
        await store.Settled().ConfigureAwait(false);
        var (actor, many) = (called.Service, last ?? 50);
        var all = store.History(actor.Id, many + 1);
        var from = store
            .Logbook(
                new LogQuery(Most)
                {
                    Service = actor.Id,
                    Kinds = [EntryKinds.Of<AdjustedEntry>(), EntryKinds.Of<RenamedEntry>()],
                }
            )
            .Where(entry => entry.Entry.Fields.Revision is not null)
            .GroupBy(entry => entry.Entry.Fields.Revision!.Value)
            .ToDictionary(same => same.Key, same => same.First().Entry.From);
        return TypedResults.Json(
            [
                .. all.Take(many)
                    .Select(
                        (one, i) =>
                            new RevisionView(
                                one.Revision,
                                one.At,
                                one.By,
                                from.GetValueOrDefault(one.Revision),
                                one.Revision == actor.Revision,
                                i + 1 < all.Count ? Between(all[i + 1].Document, one.Document) : []
                            )
                    ),
            ],
            ApiJson.Plain.IReadOnlyListRevisionView
        );
    }

    /// <summary>One revision of a service's definition, as a file.</summary>
    public static IResult File(Called called, int revision, SentryStore store) =>
        store.Document(called.Service.Id, revision) is { } document
            ? TypedResults.Text(
                Registry.Read(document).Definition is { } definition
                    ? Exporting.Alone(definition, Registry.Given(document), store.SourceOf(called.Service.Id, revision))
                    : YamlNodes.Write(Registry.Given(document)),
                "application/yaml"
            )
            : NoSuch(called, revision);

    /// <summary>What a revision changed of an earlier one, or a later one.</summary>
    /// <param name="called">The service.</param>
    /// <param name="revision">The one that is looked at.</param>
    /// <param name="from">The one that it is compared with; left out: the one before it.</param>
    public static IResult Difference(Called called, int revision, int? from, SentryStore store)
    {
        var before = from ?? revision - 1;
        if (store.Document(called.Service.Id, revision) is not { } now)
            return NoSuch(called, revision);
        if (store.Document(called.Service.Id, before) is not { } was)
            return NoSuch(called, before);
        return TypedResults.Json(
            new RevisionDifference(before, revision, Between(was, now)),
            ApiJson.Plain.RevisionDifference
        );
    }

    /// <summary>Make an earlier revision the newest: as adjusting the whole definition to it, with the same checks.</summary>
    /// <param name="called">The service.</param>
    /// <param name="revision">The one that is to hold again; the service keeps the name it has now.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static async Task<IResult> Revert(
        Called called,
        int revision,
        bool? dry,
        HttpContext context,
        Registry registry,
        Checker checker,
        SentryStore store,
        Engine.Logbook.Record logbook,
        TimeProvider clock
    )
    {
        var actor = called.Service;
        if (store.Document(actor.Id, revision) is not { } document)
            return NoSuch(called, revision);
        var map = DefinitionTrees.Overlay(
            Registry.Given(document),
            new MapNode([new("name", new ScalarNode(actor.Definition.Name))])
        );
        var sent = Reading.Of(map);
        if (sent.Problem is { } problem)
            return problem;
        sent = sent with { Source = store.SourceOf(actor.Id, revision) };
        return await WrapRoutes
            .Put(actor, sent, dry == true, context, registry, checker, store, logbook, clock)
            .ConfigureAwait(false);
    }

    private static IResult NoSuch(Called called, int revision)
    {
        var name = called.Service.Definition.Name;
        return Problems.Of(
            404,
            ProblemCode.NoSuchRevision,
            "No such revision",
            $"{name} has no revision {revision}; the one in effect is {called.Service.Revision}.",
            $"calm history {name}"
        );
    }

    /// <summary>
    /// Whoever changes a definition may say which revision the change was made from (If-Match, RFC 9110, 13.1.1; as ETag gave it): where
    /// another has come since, nothing is changed, and both are told.
    /// </summary>
    /// <returns>Null: it may be put into effect.</returns>
    public static IResult? Outdated(ServiceActor actor, Definition wanted, HttpContext context, SentryStore store)
    {
        var made = context.Request.GetTypedHeaders().IfMatch;
        if (made.Count == 0 || made.Any(tag => tag.Tag == "*" || tag.Tag == TagOf(actor).Tag))
            return null;
        var name = actor.Definition.Name;
        var from = int.TryParse(
            made[0].Tag.AsSpan().Trim('"'),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var one
        )
            ? one
            : 0;
        var was = store.Document(actor.Id, from);
        var meanwhile = was is null ? [] : Between(was, store.Document(actor.Id) ?? was);
        var yours = DefinitionChanges.Between(actor.Definition, wanted);
        return Problems.Of(
            412,
            ProblemCode.RevisionOutdated,
            "Somebody has changed it meanwhile",
            $"The definition of {name} is revision {actor.Revision} now, and yours was made from {(was is null ? "another" : $"revision {from}")}; "
                + "nothing was changed."
                + Listed("Changed meanwhile:", meanwhile)
                + Listed("Yours would change:", yours.Select(change => change.ToString())),
            $"calm history {name}; then change it again"
        );

        static string Listed(string head, IEnumerable<string> all) =>
            string.Concat(all.Select((line, i) => $"{(i == 0 ? $"\n{head}" : "")}\n  {line}"));
    }

    /// <summary>Which revision a service's definition is, as an entity tag (RFC 9110, 8.8.3).</summary>
    public static EntityTagHeaderValue TagOf(ServiceActor actor) =>
        new(string.Create(CultureInfo.InvariantCulture, $"\"{actor.Revision}\""));

    /// <summary>In words; one that this version cannot read is said to be so.</summary>
    private static IReadOnlyList<string> Between(string before, string now) =>
        (Registry.Read(before).Definition, Registry.Read(now).Definition) switch
        {
            ({ } old, { } later) => [.. DefinitionChanges.Between(old, later).Select(change => change.ToString())],
            (null, _) => ["what was before cannot be read by this version"],
            _ => ["it cannot be read by this version"],
        };
}
