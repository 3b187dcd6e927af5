using CalmSentry.Contract.Api;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Rhythms;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using Microsoft.AspNetCore.Mvc;

namespace CalmSentry.Server.Api;

/// <summary>Planned moments: what comes, and leaving one out or taking it now.</summary>
internal static class AheadRoutes
{
    private static readonly TimeSpan Usual = TimeSpan.FromDays(7),
        Longest = TimeSpan.FromDays(366);

    public static void MapAhead(this IEndpointRouteBuilder api)
    {
        api.MapGet("/ahead", All).Produces<AheadView>().Refuses(400, 404).May(Permission.Read);
        api.MapGet("/moments", Moments).Produces<MomentsView>().Refuses(400).May(Permission.Read);
        var one = api.OneService();
        one.MapPost("/skip", Skip).Produces<Answer>().Refuses(409).May(Permission.Operate);
        one.MapPost("/advance", Advance).Produces<Answer>().Refuses(409).May(Permission.Operate);
    }

    /// <summary>
    /// What is planned within ?for=7 d (at most 366 d), of all services or of ?services=NAME,…: runs of jobs and restarts,
    /// each with how long it usually takes.
    /// </summary>
    /// <param name="length">How far ahead.</param>
    /// <param name="services">Short names, with commas between.</param>
    public static IResult All(
        [FromQuery(Name = "for")] string? length,
        string? services,
        Registry registry,
        SentryStore store,
        Clocks clocks
    )
    {
        var within = Usual;
        if (length is not null && (!Duration.TryRead(length, out within) || within > Longest))
            return Problems.Of(
                400,
                ProblemCode.BadLength,
                "Not a length of time",
                $"for is '{length}'; allowed: {Duration.Allowed}, at most {Duration.Write(Longest)}."
            );
        var asked = registry.All;
        if (services is not null)
        {
            var names = services.Split(',', StringSplitOptions.RemoveEmptyEntries);
            if (Array.Find(names, name => registry.Find(name) is null) is { } unknown)
                return Problems.NoSuchService(unknown, registry.Nearest(unknown), registry.RenamedTo(unknown));
            asked = [.. names.Select(name => registry.Find(name)!).Distinct()];
        }

        return TypedResults.Json(Ahead.Of(asked, store, clocks.Now, within), ApiJson.Plain.AheadView);
    }

    /// <summary>The next ten moments of a rhythm, before it is saved: ?when=daily at 01:00, by the clock of ?zone=.</summary>
    /// <param name="when">The rhythm, as a definition has it.</param>
    /// <param name="zone">IANA time zone; the host's if left out.</param>
    public static IResult Moments(string? when, string? zone, TimeProvider clock)
    {
        if (!RhythmWords.TryRead(when ?? "", out var rhythm))
            return Problems.Of(
                400,
                ProblemCode.BadRhythm,
                "Not a rhythm",
                $"'{when}' is no rhythm; allowed: {RhythmWords.AllowedFor(when ?? "")}."
            );
        var by = TimeZoneInfo.Local;
        return !string.IsNullOrEmpty(zone) && !TimeZoneInfo.TryFindSystemTimeZoneById(zone, out by!)
            ? Problems.Of(
                400,
                ProblemCode.BadZone,
                "No such time zone",
                $"zone is '{zone}'; wanted: a time zone of this host, such as Europe/Oslo or UTC."
            )
            : TypedResults.Json(Ahead.Moments(rhythm, by, clock.GetUtcNow()), ApiJson.Plain.MomentsView);
    }

    /// <summary>Leave the next planned moment of a service out, this once.</summary>
    /// <param name="called">The service.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static Task<IResult> Skip(Called called, bool? dry, SentryStore store, HttpContext context) =>
        Take(called.Service, dry, skip: true, store, context);

    /// <summary>Take the next planned moment of a service now; it does not come again.</summary>
    /// <param name="called">The service.</param>
    /// <param name="dry">Nothing is done: the answer says what would be.</param>
    public static Task<IResult> Advance(Called called, bool? dry, SentryStore store, HttpContext context) =>
        Take(called.Service, dry, skip: false, store, context);

    private static async Task<IResult> Take(
        ServiceActor actor,
        bool? dry,
        bool skip,
        SentryStore store,
        HttpContext context
    )
    {
        var (title, name, now) = (actor.Definition.Title, actor.Definition.Name, actor.Situation);
        if (now.Rhythm?.Next is not { Due: { } due } place)
            return Problems.Of(
                409,
                ProblemCode.NothingPlanned,
                "Nothing is planned",
                $"{title} has no planned moment to come; nothing was changed.",
                actor.Definition.IsJob
                    ? $"calm start {name}   runs it now and puts its rhythm in force"
                    : $"calm adjust {name} --rhythm 'restart:daily at 01:00'   plans one"
            );
        var wanted = actor.Definition.IsJob ? Phase.Resting : Phase.Running;
        if (!skip && now.Phase != wanted)
            return Problems.Of(
                409,
                ProblemCode.NotNow,
                "It cannot be taken now",
                $"{title} is {Words.Of(now.Phase)}, not {Words.Of(wanted)}: its next moment stays "
                    + $"where it is, and nothing was changed. {actor.View.Why}"
            );
        var at = WallClock.In(due, TimeZoneInfo.Local);
        var moment = $"its moment of {at:yyyy-MM-dd HH:mm:ss} ({place.Of})";
        if (dry == true)
            return Reply.WouldDo(
                $"{title}: {moment} would be {(skip ? "skipped" : "taken now")}. Nothing was done.",
                actor.View
            );
        var by = Caller.Of(context).Who;
        var then = await actor.Ask(skip ? new SkipAsked(by) : new AdvanceAsked(by)).ConfigureAwait(false);
        await store.Kept().ConfigureAwait(false);
        var next = then.Rhythm?.Next?.Due is { } later
            ? $" The next is at {WallClock.In(later, TimeZoneInfo.Local):yyyy-MM-dd HH:mm:ss}."
            : " No other is planned.";
        return Reply.Of(
            new Answer
            {
                Code = skip ? AnswerCode.MomentSkipped : AnswerCode.MomentAdvanced,
                CameTrue = true,
                Said = $"{title}: {moment} is {(skip ? "skipped" : "taken now")}.{next}",
                Service = actor.View,
            }
        );
    }
}
