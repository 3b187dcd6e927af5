using System.Threading.Channels;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;
using CalmSentry.Server.Doors;
using CalmSentry.Server.Http;
using CalmSentry.Store;
using CalmSentry.Telling;
using Microsoft.AspNetCore.Mvc;

namespace CalmSentry.Server.Api;

/// <summary>What people are told: alerts, messages, and who gets them.</summary>
internal static class TellRoutes
{
    private const int Most = 1000,
        LongestNote = 500,
        MostLines = 1000;

    private static readonly TimeSpan UsualReport = TimeSpan.FromDays(1),
        UsualReplay = TimeSpan.FromDays(7),
        LongestReplay = TimeSpan.FromDays(31),
        LongestAside = TimeSpan.FromDays(31);

    public static void MapTelling(this IEndpointRouteBuilder api)
    {
        api.MapGet("/alerts", All).Produces<IReadOnlyList<AlertView>>().Refuses(400).May(Permission.Read);
        api.MapGet("/alerts/{number}", One).Produces<AlertView>().Refuses(404).May(Permission.Read);
        api.MapPost("/alerts/{number}/acknowledge", Acknowledge)
            .Produces<Answer>()
            .Refuses(400, 409)
            .TakesJson<AcknowledgeOrder>()
            .May(Permission.Operate);
        api.MapPost("/alerts/{number}/close", Close).Produces<Answer>().Refuses(409).May(Permission.Operate);
        api.MapGet("/messages", Messages).Produces<IReadOnlyList<MessageView>>().Refuses(400).May(Permission.Read);
        api.MapGet("/report", Report).Produces<ReportView>().Refuses(400).May(Permission.Read);
        api.MapGet("/recipients", Recipients).Produces<IReadOnlyList<RecipientView>>().May(Permission.Read);
        api.MapGet("/recipients/replay", Play).Produces<IReadOnlyList<WouldBeView>>().Refuses(400).May(Permission.Read);
        api.MapPost("/recipients/{recipient}/trial", Try)
            .Produces<TrialEvent>(200, "application/x-ndjson")
            .Refuses(404)
            .May(Permission.Administer);
    }

    /// <summary>The latest alerts, those that go on first, then the latest.</summary>
    /// <param name="last">How many at most, 1 to 1000.</param>
    public static async Task<IResult> All(int? last, Teller teller, SentryStore store)
    {
        if (last is < 1 or > Most)
            return Problems.NotSoMany(last, Most);
        await store.Settled().ConfigureAwait(false);
        var known = teller.Known.ToDictionary(alert => alert.Number);
        var all = store
            .Alerts(last ?? 50)
            .Select(one => known.GetValueOrDefault(one.Alert.Number) ?? one.Alert)
            .UnionBy(known.Values.Where(alert => alert.OverAt is null), alert => alert.Number)
            .OrderBy(alert => alert.OverAt is not null)
            .ThenByDescending(alert => alert.OverAt is null ? alert.Urgency : default)
            .ThenByDescending(alert => alert.Number);
        return TypedResults.Json<IReadOnlyList<AlertView>>(
            [.. all.Select(AlertViews.Of)],
            ApiJson.Plain.IReadOnlyListAlertView
        );
    }

    /// <summary>One alert by its number.</summary>
    public static async Task<IResult> One(long number, Teller teller, SentryStore store)
    {
        await store.Settled().ConfigureAwait(false);
        return (teller.Known.FirstOrDefault(alert => alert.Number == number) ?? store.Alert(number)) is { } alert
            ? TypedResults.Json(AlertViews.Of(alert), ApiJson.Plain.AlertView)
            : NoSuchAlert(number);
    }

    /// <summary>
    /// Somebody looks at an alert: nobody is told of it again until it is over or gets worse, nobody else is told in place of one who
    /// did not answer, and others see who has it. With a time it is put aside until then, and told again if it is still so.
    /// </summary>
    public static async Task<IResult> Acknowledge(
        long number,
        Teller teller,
        SentryStore store,
        Record logbook,
        Clocks clocks,
        HttpContext context
    )
    {
        var (order, problem) = await Incoming
            .Json(
                context.Request,
                ApiJson.Plain.AcknowledgeOrder,
                "a note and a time, or neither: {\"note\": …, \"until\": …}"
            )
            .ConfigureAwait(false);
        if (order is null)
            return problem!;
        if (order.Note is { } said && (said.Length > LongestNote || Incoming.Odd(said)))
            return Problems.Of(
                400,
                ProblemCode.BadNote,
                "Not a note",
                $"note has {said.Length} characters{(Incoming.Odd(said) ? ", among them NUL or half a character" : "")}; allowed: at most "
                    + $"{LongestNote} characters of text without NUL."
            );
        var (until, noTime) = HostTime.ReadAhead("until", order.Until, clocks.Now, LongestAside);
        if (noTime is not null)
            return noTime;
        var by = Caller.Of(context).Who;
        if (await teller.Acknowledge(number, by.Name, order.Note, until).ConfigureAwait(false) is not { } alert)
            return NotGoingOn(number, teller, store);
        var subject = MessageWords.Subject(alert);
        logbook.Note(new AcknowledgedEntry(number, subject, order.Note) { Until = until }, by);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(
            AnswerCode.Acknowledged,
            alert.OverAt is not null ? $"Alert {number} ({subject}) is yours, and over with that."
                : until is { } at
                    ? $"Alert {number} ({subject}) is put aside until {Explanation.Clock(at, clocks.Now, TimeZoneInfo.Local)}: nobody is told of it before then "
                        + "unless it gets worse; if it is still so, it is told again."
                : $"Alert {number} ({subject}) is yours: nobody is told of it again until it is over or gets worse."
        );
    }

    /// <summary>
    /// Somebody says that an alert is done with: one that has happened, or that waits for somebody to have seen it. What a service's own state
    /// ends goes on until that is so.
    /// </summary>
    public static async Task<IResult> Close(
        long number,
        Teller teller,
        SentryStore store,
        Record logbook,
        HttpContext context
    )
    {
        if (await teller.Close(number).ConfigureAwait(false) is not { } alert)
            return NotGoingOn(number, teller, store);
        var subject = MessageWords.Subject(alert);
        if (alert.OverAt is null)
            return Problems.Of(
                409,
                ProblemCode.AlertGoesOn,
                "The alert goes on",
                $"Alert {number} ({subject}) goes on until that is not so any more; nothing was changed.",
                $"calm acknowledge {number}   nobody is told of it again\ncalm acknowledge {number} --until 2h   not before then"
            );
        logbook.Note(new AlertClosedEntry(number, subject), Caller.Of(context).Who);
        await store.Kept().ConfigureAwait(false);
        return Reply.Of(AnswerCode.AlertClosed, $"Alert {number} ({subject}) is closed.");
    }

    private static IResult NotGoingOn(long number, Teller teller, SentryStore store) =>
        (store.Alert(number) ?? teller.Known.FirstOrDefault(one => one.Number == number)) is { } past
            ? Problems.Of(
                409,
                ProblemCode.AlertOver,
                "The alert is over",
                past.PartOf is { } whole
                    ? $"Alert {number} turned out to be part of alert {whole}; nothing was changed."
                    : $"Alert {number} ({MessageWords.Subject(past)}) is over; nothing was changed.",
                past.PartOf is { } other ? $"calm acknowledge {other}" : "'calm tell' shows those that go on."
            )
            : NoSuchAlert(number);

    /// <summary>The latest messages, the latest first.</summary>
    /// <param name="last">How many at most, 1 to 1000.</param>
    /// <param name="alert">Only about this alert.</param>
    public static async Task<IResult> Messages(int? last, long? alert, SentryStore store)
    {
        if (last is < 1 or > Most)
            return Problems.NotSoMany(last, Most);
        await store.Settled().ConfigureAwait(false);
        return TypedResults.Json<IReadOnlyList<MessageView>>(
            [.. store.Messages(last ?? 20, alert).Select(AlertViews.Of)],
            ApiJson.Plain.IReadOnlyListMessageView
        );
    }

    /// <summary>Everybody who is told, and whether messages get there.</summary>
    public static IResult Recipients(Teller teller) =>
        TypedResults.Json<IReadOnlyList<RecipientView>>(
            [
                .. teller.Recipients.Select(one =>
                {
                    var outbox = teller.OutboxOf(one.Name);
                    return new RecipientView
                    {
                        Name = one.Name,
                        Said = RecipientKeys.InWords(one),
                        Waiting = outbox?.Waiting ?? 0,
                        Last = outbox?.Last,
                        Trouble = outbox?.Trouble,
                    };
                }),
            ],
            ApiJson.Plain.IReadOnlyListRecipientView
        );

    /// <summary>What happened within the past ?for=1 d (at most 31 d), as text, as HTML, and as data for a picture.</summary>
    /// <param name="length">How far back.</param>
    public static async Task<IResult> Report(
        [FromQuery(Name = "for")] string? length,
        Clocks clocks,
        Registry registry,
        SentryStore store
    )
    {
        if (!IsBack(length, UsualReport, out var back))
            return NotSoFarBack(length);
        await store.Settled().ConfigureAwait(false);
        var now = clocks.Now;
        var message = await Task.Run(() =>
                ReportWords.Of(Reporting.Of(store, registry, now - back, now), TimeZoneInfo.Local)
            )
            .ConfigureAwait(false);
        return TypedResults.Json(AlertViews.Of(message, now - back), ApiJson.Plain.ReportView);
    }

    /// <summary>
    /// Who would have been told what within the past ?for=7 d (at most 31 d), by the recipients there are now: the logbook's entries
    /// decided on anew. The first 1000.
    /// </summary>
    /// <param name="length">How far back.</param>
    public static async Task<IResult> Play(
        [FromQuery(Name = "for")] string? length,
        Teller teller,
        SentryStore store,
        TimeProvider clock
    )
    {
        if (!IsBack(length, UsualReplay, out var back))
            return NotSoFarBack(length);
        await store.Settled().ConfigureAwait(false);
        var now = clock.GetUtcNow();
        var told = await Task.Run(() => teller.Replay(now - back, now, Most)).ConfigureAwait(false);
        return TypedResults.Json<IReadOnlyList<WouldBeView>>(
            [.. told.Select(one => new WouldBeView(one.At, one.Recipient, one.Kind, one.Subject))],
            ApiJson.Plain.IReadOnlyListWouldBeView
        );
    }

    /// <summary>Send one message that says nothing but that it arrives: what goes to and fro, and at the end what came of it.</summary>
    public static async Task<IResult> Try(string recipient, Teller teller, TimeProvider clock, HttpContext context)
    {
        if (teller.OutboxOf(recipient) is not { } outbox)
            return Problems.Of(
                404,
                ProblemCode.NoSuchRecipient,
                "No such recipient",
                $"No recipient '{recipient}' is in the settings"
                    + (
                        teller.Recipients.Count == 0
                            ? "; there is none at all."
                            : $"; there are: {string.Join(", ", teller.Recipients.Select(one => one.Name))}."
                    ),
                "Recipients are set in etc/calm-sentry/sentry.yaml, under tell."
            );
        var lines = Channel.CreateBounded<TrialEvent>(
            new BoundedChannelOptions(MostLines) { FullMode = BoundedChannelFullMode.DropWrite }
        );
        _ = Task.Run(
            async () =>
            {
                var (came, said) = (true, "");
                try
                {
                    said = await outbox
                        .Trial(
                            Teller.TrialFor(outbox.Recipient, clock.GetUtcNow()),
                            line => lines.Writer.TryWrite(new() { Line = line }),
                            context.RequestAborted
                        )
                        .ConfigureAwait(false);
                }
                catch (Exception error) when (error is NotTakenException or OperationCanceledException)
                {
                    (came, said) = (false, error.Message);
                }
                catch (Exception unexpected)
                {
                    (came, said) = (false, Unexpected.InWords(unexpected));
                }

                await lines
                    .Writer.WriteAsync(
                        new()
                        {
                            CameTrue = came,
                            Said = came
                                ? $"A trial went to {recipient}: {said}."
                                : $"A trial did not get to {recipient}: {said}.",
                        },
                        CancellationToken.None
                    )
                    .ConfigureAwait(false);
                lines.Writer.Complete();
            },
            CancellationToken.None
        );
        await Reply.Live(context, lines.Reader, ApiJson.Plain.TrialEvent).ConfigureAwait(false);
        return TypedResults.Empty;
    }

    private static bool IsBack(string? length, TimeSpan usual, out TimeSpan back)
    {
        back = usual;
        return length is null || (Duration.TryRead(length, out back) && back > TimeSpan.Zero && back <= LongestReplay);
    }

    private static IResult NotSoFarBack(string? length) =>
        Problems.Of(
            400,
            ProblemCode.BadLength,
            "Not a length of time",
            $"for is '{length}'; allowed: {Duration.Allowed}, more than 0 and at most {Duration.Write(LongestReplay)}."
        );

    private static IResult NoSuchAlert(long number) =>
        Problems.Of(
            404,
            ProblemCode.NoSuchAlert,
            "No such alert",
            $"There is no alert {number} on record.",
            "'calm tell' shows those there are."
        );
}
