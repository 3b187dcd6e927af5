using System.CommandLine;
using System.Globalization;
using System.Text;
using System.Text.Json;
using CalmSentry.Cli.Formatting;
using CalmSentry.Cli.Wire;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Commands;

/// <summary><c>calm tell</c> and <c>calm acknowledge</c>: alerts, who was told of them, and who looks at them.</summary>
internal static class TellCommands
{
    /// <summary>Services of an alert that are listed with what happened to them.</summary>
    private const int MostListed = 20;

    public static Command Tell()
    {
        var alert = new Option<long?>("--alert")
        {
            Description = "Show this alert, with its messages",
            HelpName = "NUMBER",
        };
        var messages = new Option<bool>("--messages")
        {
            Description = "List the latest messages, and what became of them",
        };
        var message = new Option<long?>("--message")
        {
            Description = "Show this message as it was sent",
            HelpName = "NUMBER",
        };
        var recipients = new Option<bool>("--recipients")
        {
            Description = "List who is told of what, and whether it gets there",
        };
        var test = new Option<string?>("--test")
        {
            Description = "Send a trial to this recipient, and show all that goes to and fro",
            HelpName = "RECIPIENT",
        };
        var replay = new Option<string?>("--replay")
        {
            Description = "Who would have been told what, of the time past, such as 7d",
            HelpName = "LENGTH",
        };
        var close = new Option<long?>("--close")
        {
            Description = "Say that this alert is done with: one that has happened, and that is all",
            HelpName = "NUMBER",
        };
        var last = new Option<int?>("--last") { Description = "How many at most; 20 if left out", HelpName = "COUNT" };
        var json = Common.Json();
        var command = new Command("tell", "Show alerts, who was told of them and how, and try whether messages arrive")
        {
            alert,
            messages,
            message,
            recipients,
            test,
            replay,
            close,
            last,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var (asJson, most) = (parsed.GetValue(json), parsed.GetValue(last) ?? 20);
                if (parsed.GetValue(test) is { } recipient)
                    return await Try(client, recipient, asJson, cancellation).ConfigureAwait(false);
                if (parsed.GetValue(replay) is { } length)
                    return await Replay(client, length, asJson, cancellation).ConfigureAwait(false);
                if (parsed.GetValue(close) is { } done)
                    return await Say(client, Invariant($"alerts/{done}/close"), null, asJson, cancellation)
                        .ConfigureAwait(false);
                if (parsed.GetValue(alert) is { } number)
                    return await One(client, number, asJson, cancellation).ConfigureAwait(false);
                if (parsed.GetValue(message) is { } wanted)
                    return await Message(client, wanted, asJson, cancellation).ConfigureAwait(false);
                if (parsed.GetValue(messages))
                    return await Messages(client, most, asJson, cancellation).ConfigureAwait(false);
                return parsed.GetValue(recipients)
                    ? await Recipients(client, asJson, cancellation).ConfigureAwait(false)
                    : await All(client, most, asJson, cancellation).ConfigureAwait(false);
            }
        );
        return command;
    }

    public static Command Report()
    {
        var length = new Option<string?>("--for")
        {
            Description = "How far back, such as 7d; 24h if left out",
            HelpName = "LENGTH",
        };
        var html = new Option<bool>("--html") { Description = "As an HTML document" };
        var json = Common.Json();
        var command = new Command(
            "report",
            "What happened: failures, jobs, changes, what is planned; two lines when all was well"
        )
        {
            length,
            html,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var report = await client
                    .Get(
                        $"report?for={Uri.EscapeDataString(parsed.GetValue(length) ?? "24h")}",
                        ApiJson.Default.ReportView,
                        cancellation
                    )
                    .ConfigureAwait(false);
                if (parsed.GetValue(json))
                    Common.WriteJson(report, ApiJson.Plain.ReportView);
                else if (parsed.GetValue(html))
                    Console.WriteLine(report.Html);
                else
                    Console.Write($"{report.Subject}\n{report.Text}");
                return Exit.True;
            }
        );
        return command;
    }

    public static Command Acknowledge()
    {
        var which = new Argument<string>("alert") { Description = "Its number, or the service it is about" };
        which.CompletionSources.Add(Common.ServiceNames);
        var note = new Option<string?>("--note") { Description = "What others should know", HelpName = "TEXT" };
        var until = new Option<string?>("--until")
        {
            Description = "Put it aside until then, such as 2h or 07:30; if it is still so, it is told again",
            HelpName = "TIME",
        };
        var json = Common.Json();
        var command = new Command("acknowledge", "Say that you look at an alert: nobody is told of it again")
        {
            which,
            note,
            until,
            json,
        };
        command.SetAction(
            async (parsed, cancellation) =>
            {
                using var client = Common.Client(parsed);
                var named = parsed.GetValue(which)!;
                var number = long.TryParse(named, NumberStyles.None, CultureInfo.InvariantCulture, out var given)
                    ? given
                    : await AlertOf(client, named, cancellation).ConfigureAwait(false);
                using var content = new StringContent(
                    JsonSerializer.Serialize(
                        new AcknowledgeOrder { Note = parsed.GetValue(note), Until = parsed.GetValue(until) },
                        ApiJson.Default.AcknowledgeOrder
                    ),
                    Encoding.UTF8,
                    "application/json"
                );
                return await Say(
                        client,
                        Invariant($"alerts/{number}/acknowledge"),
                        content,
                        parsed.GetValue(json),
                        cancellation
                    )
                    .ConfigureAwait(false);
            }
        );
        return command;
    }

    private static async Task<int> Say(
        SentryClient client,
        string call,
        HttpContent? content,
        bool json,
        CancellationToken cancellation
    )
    {
        var answer = await client
            .Send(HttpMethod.Post, call, content, ApiJson.Default.Answer, cancellation)
            .ConfigureAwait(false);
        if (json)
            Common.WriteJson(answer, ApiJson.Plain.Answer);
        else
            Console.WriteLine(answer.Said);
        return Exit.True;
    }

    /// <summary>The alert that goes on about a service.</summary>
    private static async Task<long> AlertOf(SentryClient client, string service, CancellationToken cancellation)
    {
        var going = (await Get(client, 1000, cancellation).ConfigureAwait(false)).Where(IsOpen).ToList();
        var about = going
            .Where(alert =>
                alert.CauseName == service || alert.Affected.Any(one => one.Service == service || one.Title == service)
            )
            .ToList();
        return about.Count switch
        {
            1 => about[0].Number,
            0 => throw new Failure(
                Exit.NoSuchThing,
                $"No alert about {service} goes on; nothing was changed.",
                going.Count == 0 ? "No alert goes on at all." : "calm tell   shows those that go on"
            ),
            _ => throw new Failure(
                Exit.Usage,
                $"{about.Count} alerts about {service} go on; nothing was changed.",
                string.Join(
                    '\n',
                    about.Select(alert => Invariant($"calm acknowledge {alert.Number}   {alert.Subject}"))
                )
            ),
        };
    }

    private static bool IsOpen(AlertView alert) => alert is { Over: null, PartOf: null };

    private static Task<IReadOnlyList<AlertView>> Get(SentryClient client, int last, CancellationToken cancellation) =>
        client.Get(Invariant($"alerts?last={last}"), ApiJson.Default.IReadOnlyListAlertView, cancellation);

    private static async Task<int> All(SentryClient client, int last, bool json, CancellationToken cancellation)
    {
        var alerts = await Get(client, last, cancellation).ConfigureAwait(false);
        if (json)
        {
            Common.WriteJson(alerts, ApiJson.Plain.IReadOnlyListAlertView);
            return Exit.True;
        }

        var recipients = await client
            .Get("recipients", ApiJson.Default.IReadOnlyListRecipientView, cancellation)
            .ConfigureAwait(false);
        if (alerts.Count == 0)
            Console.WriteLine("There has been no alert.");
        else
            Table.Write(
                ["ALERT", "SINCE", "IT IS", "WHAT", "TOLD", "WHO LOOKS AT IT"],
                [.. alerts.Select(Row)],
                row => IsOpen(alerts[row]) && alerts[row].Urgency == Urgency.Urgent && alerts[row].TakenBy is null
            );
        Console.WriteLine();
        Write(recipients);
        return Exit.True;
    }

    private static string[] Row(AlertView alert) =>
        [
            alert.Number.ToString(CultureInfo.InvariantCulture),
            Lengths.DayAt(alert.Began),
            How(alert),
            alert.Subject,
            alert.Heard.Count == 0 ? "nobody" : string.Join(", ", alert.Heard.Select(one => one.Recipient)),
            alert.TakenBy is { } by ? by + Taken(alert) : "-",
        ];

    private static string Taken(AlertView alert) =>
        (alert.TakenUntil is { } until ? $", put aside until {Lengths.DayAt(until)}" : "")
        + (alert.TakenNote is { } note ? $": {note}" : "");

    private static string How(AlertView alert) =>
        alert switch
        {
            { PartOf: { } whole } => Invariant($"part of {whole}"),
            { Over: { } over } => $"over at {Lengths.At(over)}",
            { Lasts: false, Urgency: Urgency.Urgent } => "urgent, has happened",
            { Lasts: false } => "has happened",
            { WellSince: { } well } => $"well since {Lengths.At(well)}",
            { Urgency: Urgency.Urgent } => "urgent",
            _ => "going on",
        };

    private static void Write(IReadOnlyList<RecipientView> recipients)
    {
        if (recipients.Count == 0)
            Console.WriteLine("Nobody is told: no recipient is set. 'calm tell --help' shows how.");
        foreach (var one in recipients)
        {
            Console.WriteLine($"{one.Name}: {one.Said}.");
            if (one.Trouble is { } trouble)
                Console.WriteLine($"  {trouble}");
            else if (one.Waiting > 0)
                Console.WriteLine(Invariant($"  {one.Waiting} messages wait."));
        }
    }

    private static async Task<int> Recipients(SentryClient client, bool json, CancellationToken cancellation)
    {
        var all = await client
            .Get("recipients", ApiJson.Default.IReadOnlyListRecipientView, cancellation)
            .ConfigureAwait(false);
        if (json)
            Common.WriteJson(all, ApiJson.Plain.IReadOnlyListRecipientView);
        else
            Write(all);
        return Exit.True;
    }

    private static async Task<int> One(SentryClient client, long number, bool json, CancellationToken cancellation)
    {
        var alert = await client
            .Get(Invariant($"alerts/{number}"), ApiJson.Default.AlertView, cancellation)
            .ConfigureAwait(false);
        if (json)
        {
            Common.WriteJson(alert, ApiJson.Plain.AlertView);
            return Exit.True;
        }

        Console.WriteLine(Invariant($"Alert {alert.Number}: {alert.Subject}."));
        Console.WriteLine($"  since     {Lengths.DayAt(alert.Began)}, {How(alert)}");
        if (alert.Returns > 0)
            Console.WriteLine(Invariant($"  came back {alert.Returns} times"));
        Console.WriteLine(
            $"  taken     {(alert.TakenBy is { } by ? $"{by}, {Lengths.DayAt(alert.TakenAt!.Value)}{Taken(alert)}" : "by nobody")}"
        );
        foreach (var one in alert.Affected.Take(MostListed))
            Console.WriteLine(
                $"  {(alert.Lasts && one.Well ? "well now " : "affected ")} {one.Service ?? one.Title}: {one.What ?? Words.Of(one.Topic)}"
                    + (one.Times > 1 ? Invariant($" ({one.Times} times)") : "")
            );
        var more = alert.Affected.Count - MostListed + alert.More;
        if (more > 0)
            Console.WriteLine(Invariant($"  and {more} more"));
        Console.WriteLine();
        var messages = await client
            .Get(Invariant($"messages?alert={number}&last=50"), ApiJson.Default.IReadOnlyListMessageView, cancellation)
            .ConfigureAwait(false);
        Write(messages);
        return Exit.True;
    }

    private static async Task<int> Messages(SentryClient client, int last, bool json, CancellationToken cancellation)
    {
        var all = await client
            .Get(Invariant($"messages?last={last}"), ApiJson.Default.IReadOnlyListMessageView, cancellation)
            .ConfigureAwait(false);
        if (json)
            Common.WriteJson(all, ApiJson.Plain.IReadOnlyListMessageView);
        else
            Write(all);
        return Exit.True;
    }

    private static void Write(IReadOnlyList<MessageView> all)
    {
        if (all.Count == 0)
        {
            Console.WriteLine("No message was sent.");
            return;
        }

        Table.Write(
            ["MESSAGE", "MADE", "TO", "SUBJECT", "WHAT BECAME OF IT"],
            [
                .. all.Select(one =>
                    new[]
                    {
                        one.Number.ToString(CultureInfo.InvariantCulture),
                        Lengths.DayAt(one.At),
                        one.Recipient,
                        one.Subject ?? "(cannot be read)",
                        Words.Of(one.State)
                            + (
                                one.State == MessageState.Waiting && one.Tries > 0
                                    ? Invariant($", {one.Tries} tries")
                                    : ""
                            )
                            + (one.Answer is { } answer ? $": {answer}" : ""),
                    }
                ),
            ],
            row => all[row].State is MessageState.Refused or MessageState.Dropped
        );
    }

    private static async Task<int> Replay(SentryClient client, string length, bool json, CancellationToken cancellation)
    {
        var all = await client
            .Get(
                $"recipients/replay?for={Uri.EscapeDataString(length)}",
                ApiJson.Default.IReadOnlyListWouldBeView,
                cancellation
            )
            .ConfigureAwait(false);
        if (json)
            Common.WriteJson(all, ApiJson.Plain.IReadOnlyListWouldBeView);
        else if (all.Count == 0)
            Console.WriteLine($"Nobody would have been told anything within the past {length}.");
        else
            Table.Write(
                ["WHEN", "TO", "SUBJECT"],
                [.. all.Select(one => new[] { Lengths.DayAt(one.At), one.Recipient, one.Subject })]
            );
        return Exit.True;
    }

    private static async Task<int> Message(SentryClient client, long number, bool json, CancellationToken cancellation)
    {
        var all = await client
            .Get("messages?last=1000", ApiJson.Default.IReadOnlyListMessageView, cancellation)
            .ConfigureAwait(false);
        var one =
            all.FirstOrDefault(message => message.Number == number)
            ?? throw new Failure(
                Exit.NoSuchThing,
                Invariant($"There is no message {number} among the latest 1000."),
                "calm tell --messages   lists them"
            );
        if (json)
            Common.WriteJson([one], ApiJson.Plain.IReadOnlyListMessageView);
        else
            Console.WriteLine($"{one.Subject}\n\n{one.Text}");
        return Exit.True;
    }

    private static async Task<int> Try(SentryClient client, string recipient, bool json, CancellationToken cancellation)
    {
        var came = false;
        await foreach (
            var happened in client
                .Lines(
                    HttpMethod.Post,
                    $"recipients/{Uri.EscapeDataString(recipient)}/trial",
                    null,
                    ApiJson.Default.TrialEvent,
                    "whether the message arrived is not known",
                    cancellation
                )
                .ConfigureAwait(false)
        )
        {
            if (json)
                Console.WriteLine(JsonSerializer.Serialize(happened, ApiJson.Default.TrialEvent));
            else if (happened.Line is { } line)
                Console.WriteLine(line);
            else if (happened.Said is { } said)
                Console.WriteLine(said);
            came |= happened.CameTrue == true;
        }

        return came ? Exit.True : Exit.NotTrue;
    }

    private static string Invariant(FormattableString text) => text.ToString(CultureInfo.InvariantCulture);
}
