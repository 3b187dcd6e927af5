using System.Net.ServerSentEvents;
using System.Reflection;
using System.Runtime.CompilerServices;
using System.Text.Json;
using CalmSentry.Contract;
using CalmSentry.Contract.Api;
using CalmSentry.Engine.Events;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Groups;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Server.Self;
using CalmSentry.Store;
using CalmSentry.Telling;
using CalmSentry.Telling.Forwarding;

namespace CalmSentry.Server.Api;

/// <summary>The sentry itself, and live events.</summary>
internal static class SentryRoutes
{
    public static void MapSentry(this IEndpointRouteBuilder api)
    {
        api.MapGet("/sentry", Sentry).Produces<SentryView>().May(Permission.Read).WithMetadata(new Unrecorded.Told());

        api.MapPost("/settings/check", CheckSettings)
            .TakesSettings()
            .Produces<SettingsCheckView>()
            .Refuses(400)
            .May(Permission.Administer);

        api.MapGet("/events", LiveEvents).Produces<string>(200, "text/event-stream").May(Permission.Read);

        api.OneService()
            .MapGet("/events", LiveEventsOf)
            .Produces<string>(200, "text/event-stream")
            .May(Permission.Read);
    }

    /// <summary>The sentry itself, and who you are to it.</summary>
    public static IResult Sentry(
        SentryStore store,
        Registry registry,
        Places places,
        ControlGroups groups,
        SentrySelf self,
        Forwarders forwarders,
        Teller teller,
        SettingsFile settings,
        HttpContext context
    ) =>
        TypedResults.Json(
            new SentryView
            {
                Version = SentrySelf.Version,
                Host = Machine.HostName,
                Pid = Environment.ProcessId,
                Since = self.Since,
                Account = Account.NameOf(Account.OwnId),
                Root = places.Root,
                Console = self.Console,
                Guard = GuardWatch.Alive(places),
                StartsWithMachine = places.Root == "/" && File.Exists("/etc/init.d/calm-sentry"),
                Limits = Limits.Of(store, registry, places, groups, forwarders, teller, settings),
                You = Caller.Of(context).Who.Name,
            },
            ApiJson.Plain.SentryView
        );

    /// <summary>What is wrong with settings, and when they would hold; nothing is changed.</summary>
    public static async Task<IResult> CheckSettings(SettingsCheck check, HttpContext context)
    {
        var (text, problem) = await Incoming.Text(context.Request, Incoming.LongestDefinition).ConfigureAwait(false);
        return problem ?? TypedResults.Json(check.Look(text!), ApiJson.Plain.SettingsCheckView);
    }

    /// <summary>
    /// Live events: 'services' (all, first), then 'service', 'removed', 'logged', 'alert' (its number), and 'beat' when all is quiet.
    /// </summary>
    public static IResult LiveEvents(EventHub events, Registry registry, HttpContext context) =>
        Stream(
            events,
            () => new("services", JsonSerializer.Serialize(registry.Views, ApiJson.Plain.IReadOnlyListServiceView)),
            null,
            context
        );

    /// <summary>
    /// Live events of one service: 'service' (as it is, first, then as it changes), 'removed', 'logged', and 'beat' when
    /// all is quiet.
    /// </summary>
    public static IResult LiveEventsOf(Called called, EventHub events, HttpContext context) =>
        Stream(
            events,
            () => new("service", JsonSerializer.Serialize(called.Service.View, ApiJson.Plain.ServiceView)),
            called.Service.Definition.Name,
            context
        );

    private static IResult Stream(EventHub events, Func<LiveEvent> first, string? service, HttpContext context)
    {
        return events.Full
            ? Problems.Of(
                503,
                ProblemCode.TooManyStreams,
                "Too many streams",
                $"{EventHub.Most} streams of events are open, as many as there may be.",
                "Close some: each open console page and each 'calm board' has one."
            )
            : TypedResults.ServerSentEvents(Items(context.RequestAborted));

        async IAsyncEnumerable<SseItem<string>> Items([EnumeratorCancellation] CancellationToken cancellation)
        {
            await foreach (var live in events.Listen(first, service, cancellation).ConfigureAwait(false))
                yield return new(live.Data, live.Name);
        }
    }
}

/// <summary>What the sentry knows of itself once it listens.</summary>
internal sealed class SentrySelf(TimeProvider clock)
{
    public static string Version { get; } =
        typeof(SentrySelf).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion
        ?? "0";

    public DateTimeOffset Since { get; } = clock.GetUtcNow();

    /// <summary>Address of the console, with a closing slash.</summary>
    public string Console { get; set; } = "";
}
