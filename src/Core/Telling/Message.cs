using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;
using CalmSentry.Core.Wording;

namespace CalmSentry.Core.Telling;

/// <summary>How things are with the service that an alert is about first, when a message is made.</summary>
/// <param name="Why">Why it is as it is, as sentences.</param>
public sealed record Standing(string Why)
{
    public ImmutableArray<Coming> Next { get; init; } = [];

    public ImmutableArray<Possible> Could { get; init; } = [];

    /// <summary>Services that need it, each with how it is, as a clause.</summary>
    public ImmutableArray<string> NeededBy { get; init; } = [];

    /// <summary>What it printed last.</summary>
    public ImmutableArray<string> LastLines { get; init; } = [];
}

/// <param name="Quoted">What comes from programs: shown as it is, and never read as anything else.</param>
/// <param name="Of">Of a report: which part of it.</param>
public sealed record MessagePart(
    string? Title,
    ImmutableArray<string> Lines,
    bool Quoted = false,
    ReportPart? Of = null
);

/// <summary>The parts of a report.</summary>
public enum ReportPart
{
    Warnings,
    Attention,
    Alerts,

    /// <summary>How services fared, as text: what the strips are as a picture.</summary>
    Strips,
    Jobs,
    Growth,
    Found,
    Apart,
    Changes,
    Planned,
}

/// <summary>A part of a strip.</summary>
/// <param name="From">Where it begins, of the whole from 0 to 1.</param>
public readonly record struct StripPart(double From, double To, Lifecycle.ServiceTime Time);

/// <summary>How one service fared in a time, as a picture: a strip of parts.</summary>
public sealed record Strip(string Service, string Title, ImmutableArray<StripPart> Parts);

/// <summary>One message to one recipient, as data; each way makes its own form of it.</summary>
public sealed record Message
{
    public required MessageKind Kind { get; init; }

    /// <summary>0: it is about none.</summary>
    public required long Alert { get; init; }

    public required string Host { get; init; }

    public required DateTimeOffset At { get; init; }

    public required Urgency Urgency { get; init; }

    /// <summary>The service whose alert it is; null: the sentry's own, or that of something missing.</summary>
    public string? Service { get; init; }

    /// <summary>Null: it is about no alert.</summary>
    public Topic? Topic { get; init; }

    /// <summary>What it is about, as programs read it: the topic of its alert, 'report' or 'trial'.</summary>
    public string About =>
        Kind switch
        {
            MessageKind.Report => "report",
            MessageKind.Trial => "trial",
            _ => Topic is { } topic ? Words.Of(topic) : Words.Of(Kind),
        };

    /// <summary>What is wrong, without the host: one line.</summary>
    public required string Subject { get; init; }

    /// <summary>What is wrong, since when, and whether anybody must act.</summary>
    public required string Lead { get; init; }

    public required ImmutableArray<MessagePart> Parts { get; init; }

    /// <summary>How services fared, as a picture.</summary>
    public ImmutableArray<Strip> Strips { get; init; } = [];

    /// <summary>Times at which parts of the strips' time begin, all as long, as they are written below the strips.</summary>
    public ImmutableArray<string> Scale { get; init; } = [];

    /// <summary>What the service's window shows goes with it, where its way takes pictures.</summary>
    public bool WithPicture { get; init; }

    /// <summary>It is told because another recipient has not acknowledged it.</summary>
    public string? InsteadOf { get; init; }

    /// <summary>As its first line: nothing of it can begin a header or a line of its own.</summary>
    public string Headline => $"[{Shown.Line(Host)}] {Shown.Line(Subject)}";
}

/// <summary>Messages in words.</summary>
public static class MessageWords
{
    private const int MostLines = 20,
        LongestLine = 500,
        NamesALine = 8;

    /// <param name="standing">Of <see cref="First"/>; null: it is about no service there is.</param>
    /// <param name="link">Where the alert is shown in the console; null: it cannot be reached.</param>
    public static Message Of(
        Alert alert,
        MessageKind kind,
        Standing? standing,
        string host,
        DateTimeOffset now,
        TimeZoneInfo zone,
        string? link = null
    )
    {
        var first = First(alert);
        return new()
        {
            Kind = kind,
            Alert = alert.Number,
            Host = host,
            At = now,
            Urgency = kind is MessageKind.Over ? Urgency.CanWait : alert.Urgency,
            Service = alert.Cause.IsOfService ? alert.Cause.Name : null,
            Topic = alert.Worst,
            WithPicture = alert.Cause.Kind == CauseKind.Window && kind is not MessageKind.Over,
            Subject = SubjectOf(alert, kind),
            Lead = Lead(alert, kind, now, zone),
            Parts = [.. Parts(alert, first, kind, standing, zone, link).Where(part => !part.Lines.IsEmpty)],
        };
    }

    /// <summary>The one it is shown by: the cause itself, or the first of the worst.</summary>
    public static Affected First(Alert alert) =>
        alert.Affected.FirstOrDefault(one => alert.Cause.Kind == CauseKind.Service && one.Service == alert.Cause.Name)
        ?? alert.Affected.First(one => one.Worst == alert.Worst);

    private static string Opening(MessageKind kind) =>
        kind switch
        {
            MessageKind.Over => "Over: ",
            MessageKind.Again => "Again: ",
            MessageKind.Stays => "Still: ",
            _ => "",
        };

    public static string SubjectOf(Alert alert, MessageKind kind) => Opening(kind) + Subject(alert);

    /// <summary>What is wrong: one line.</summary>
    public static string Subject(Alert alert)
    {
        var first = First(alert);
        var others = alert.Joins ? alert.Count - 1 : 0;
        if (alert.Cause.IsWhereItAsks)
            return $"{first.Title} probably asks for somebody {(alert.Cause.Kind == CauseKind.Window ? "in a window" : "at its terminal")}";
        if (alert.Cause.Kind is not (CauseKind.Service or CauseKind.Machine))
            return $"{alert.Cause}: {Services(alert.Count)} {(alert.Count == 1 ? "has" : "have")} trouble";
        var known =
            alert.Cause.Kind == CauseKind.Service && first.Service != alert.Cause.Name
                ? $"{alert.Cause.Name} is missing: {first.Title} {Topics.Of(first.Worst).Clause}"
                : $"{first.Title} {Topics.Of(first.Worst).Clause}";
        return others switch
        {
            0 => known,
            1 => $"{known}, and 1 more service is affected",
            _ => string.Create(CultureInfo.InvariantCulture, $"{known}, and {others} more services are affected"),
        };
    }

    private static string Services(int count) =>
        count == 1 ? "1 service" : string.Create(CultureInfo.InvariantCulture, $"{count} services");

    private static string Lead(Alert alert, MessageKind kind, DateTimeOffset now, TimeZoneInfo zone)
    {
        var since = Explanation.Clock(alert.Began, now, zone);
        var taken = alert.Taken is { } one
            ? $" {one.By} looks at it since {Explanation.Clock(one.At, now, zone)}{(one.Note is { } note ? $": {note}" : "")}."
            : "";
        return kind == MessageKind.Over
                ? $"{Subject(alert)}: since {since}, and over. It has been well since "
                    + $"{Explanation.Clock(alert.WellSince ?? now, now, zone)}. Nobody needs to do anything.{taken}"
            : alert.Lasts
                ? $"{Subject(alert)}, since {since}. "
                    + (
                        alert.WellSince is { } well ? $"It has been well since {Explanation.Clock(well, now, zone)}."
                        : alert.Urgency == Urgency.Urgent ? "It needs attention."
                        : "Nobody needs to act now."
                    )
                    + (alert.Joins || alert.Count == 1 ? "" : $" It happened {Often(alert.Count)}.")
                    + (alert.Returns > 0 ? $" It has come back {Often(alert.Returns)} within a day." : "")
                    + taken
            : $"{Subject(alert)}, at {since}."
                + (alert.Count > 1 ? $" It happened {Often(alert.Count)}." : "")
                + (alert.Urgency == Urgency.Urgent ? " It needs attention." : " Nobody needs to act now.")
                + taken;
    }

    private static string Often(int times) =>
        times == 1 ? "once" : string.Create(CultureInfo.InvariantCulture, $"{times} times");

    private static IEnumerable<MessagePart> Parts(
        Alert alert,
        Affected first,
        MessageKind kind,
        Standing? standing,
        TimeZoneInfo zone,
        string? link
    )
    {
        if (first.What is { } what)
            yield return new("What happened", [what]);
        if (standing is not null)
            yield return new("How it is now", [standing.Why]);
        if (kind != MessageKind.Over && standing is not null)
        {
            yield return new(
                $"What {first.Title} printed last",
                [.. standing.LastLines.TakeLast(MostLines).Select(line => Cut(line))],
                Quoted: true
            );
            yield return new(
                "What comes next",
                [
                    .. standing.Next.Select(one =>
                        one.At is { } at ? $"{Explanation.Clock(at, alert.Joined, zone)}: {one.Text}" : one.Text
                    ),
                ]
            );
        }

        if (kind != MessageKind.Over && standing is not null)
            yield return new("What needs it", standing.NeededBy);
        if (alert.Count > 1 && alert.Joins)
            yield return new("All that it is about", Names(alert));
        if (kind == MessageKind.Over)
            yield break;
        yield return new(
            "What you can do",
            [
                .. standing?.Could.Select(one => $"{one.Text}: {one.Command}") ?? [],
                .. first.Service is { } service ? [$"See the whole story: calm why {service}"] : Array.Empty<string>(),
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"Say that you look at it: calm acknowledge {alert.Number}"
                ),
                .. link is null ? Array.Empty<string>() : [$"In the console: {link}"],
            ]
        );
    }

    private static ImmutableArray<string> Names(Alert alert)
    {
        var named = alert.Affected.Where(one => one.Service is not null).Select(one => one.Service!);
        var lines = named.Chunk(NamesALine).Select(names => string.Join(", ", names));
        return alert.More == 0
            ? [.. lines]
            : [.. lines, string.Create(CultureInfo.InvariantCulture, $"and {alert.More} more")];
    }

    private static string Cut(string line) => line.Length <= LongestLine ? line : line[..LongestLine] + "…";
}

/// <summary>A message as text and as HTML.</summary>
public static class MessageText
{
    /// <summary>Lines of text, each ended by a line feed.</summary>
    public static string Plain(Message message)
    {
        var text = new System.Text.StringBuilder();
        text.Append(Shown.Line(message.Lead)).Append('\n');
        if (message.InsteadOf is { } other)
            text.Append(Because(other)).Append('\n');
        foreach (var part in message.Parts)
        {
            text.Append('\n');
            if (part.Title is { } title)
                text.Append(Shown.Line(title)).Append(":\n");
            foreach (var line in Lines(part))
                text.Append(part.Quoted ? "  | " : "  ").Append(line).Append('\n');
        }

        return text.Append('\n').Append(Ending(message)).Append('\n').ToString();
    }

    /// <summary>A whole document, with nothing in it that is fetched or run.</summary>
    public static string Html(Message message)
    {
        var text = new System.Text.StringBuilder();
        text.Append("<!DOCTYPE html><html><head><meta charset=\"utf-8\"><title>")
            .Append(Safe(message.Headline))
            .Append("</title></head><body style=\"font-family:sans-serif;line-height:1.45;max-width:46em\">")
            .Append("<p style=\"font-size:1.1em\"><strong>")
            .Append(Safe(message.Lead))
            .Append("</strong></p>");
        if (message.InsteadOf is { } other)
            text.Append("<p>").Append(Safe(Because(other))).Append("</p>");
        Draw(text, message.Strips, message.Scale);
        foreach (var part in message.Parts)
        {
            if (part.Title is { } title)
                text.Append("<h4 style=\"margin:1em 0 .2em\">").Append(Safe(title)).Append("</h4>");
            if (part.Quoted)
                text.Append("<pre style=\"background:#f3f3f3;padding:.6em;white-space:pre-wrap\">")
                    .Append(Safe(string.Join('\n', Lines(part)), keepLines: true))
                    .Append("</pre>");
            else
                foreach (var line in Lines(part))
                    text.Append("<p style=\"margin:.2em 0\">").Append(Safe(line)).Append("</p>");
        }

        return text.Append("<p style=\"color:#666\">")
            .Append(Safe(Ending(message)))
            .Append("</p></body></html>")
            .ToString();
    }

    /// <summary>Cells of a table, for mail readers draw nothing else; each says in words what its colour does.</summary>
    private static void Draw(System.Text.StringBuilder text, ImmutableArray<Strip> strips, ImmutableArray<string> scale)
    {
        if (strips.IsEmpty)
            return;
        text.Append("<table style=\"border-collapse:collapse;width:100%;font-size:.9em\">");
        foreach (var strip in strips)
        {
            text.Append("<tr><td style=\"width:11em;padding:.2em .6em .2em 0\">")
                .Append(Safe(strip.Title))
                .Append(
                    "</td><td style=\"padding:.2em 0\"><table style=\"border-collapse:collapse;width:100%;height:1em\"><tr>"
                );
            var at = 0.0;
            foreach (var part in strip.Parts)
            {
                Cell(text, part.From - at, "", "");
                Cell(text, part.To - part.From, Colour(part.Time), Said(part.Time));
                at = part.To;
            }

            Cell(text, 1 - at, "", "");
            text.Append("</tr></table></td></tr>");
        }

        if (!scale.IsEmpty)
        {
            text.Append("<tr><td></td><td><table style=\"border-collapse:collapse;width:100%;color:#666\"><tr>");
            foreach (var label in scale)
                text.Append(
                        CultureInfo.InvariantCulture,
                        $"<td style=\"padding:0 0 0 .2em;border-left:1px solid #aaa;width:{100.0 / scale.Length:0.##}%\">"
                    )
                    .Append(Safe(label))
                    .Append("</td>");
            text.Append("</tr></table></td></tr>");
        }

        text.Append("</table>");
    }

    private static void Cell(System.Text.StringBuilder text, double share, string colour, string said)
    {
        if (share <= 0.0005)
            return;
        text.Append(
                CultureInfo.InvariantCulture,
                $"<td title=\"{said}\" style=\"padding:0;width:{share * 100:0.##}%;background:{(colour.Length == 0 ? "none" : colour)};font-size:.7em;color:#fff\">"
            )
            .Append(said == "failed" ? "!" : "")
            .Append("</td>");
    }

    private static string Colour(Lifecycle.ServiceTime time) =>
        time switch
        {
            Lifecycle.ServiceTime.Up => "#8aa39b",
            Lifecycle.ServiceTime.Planned => "#e4e4e0",
            _ => "#9c2f10",
        };

    private static string Said(Lifecycle.ServiceTime time) =>
        time switch
        {
            Lifecycle.ServiceTime.Up => "ran",
            Lifecycle.ServiceTime.Planned => "was not to run",
            _ => "failed",
        };

    private static IEnumerable<string> Lines(MessagePart part) =>
        part.Lines.SelectMany(line => line.Split('\n')).Select(Shown.Line);

    private static string Because(string other) =>
        $"You are told because {Shown.Line(other)} was told before, and nobody has acknowledged it.";

    private static string Ending(Message message) =>
        message.Kind == MessageKind.Report && !message.Parts.IsEmpty
            ? $"# it ran, · it was not to, ! it should have and did not. Sent by Calm Sentry on {Shown.Line(message.Host)}."
        : message.Alert == 0 ? $"Sent by Calm Sentry on {Shown.Line(message.Host)}."
        : string.Create(
            CultureInfo.InvariantCulture,
            $"Alert {message.Alert}, sent by Calm Sentry on {Shown.Line(message.Host)}."
        );

    private static string Safe(string text, bool keepLines = false) =>
        System.Net.WebUtility.HtmlEncode(keepLines ? text : Shown.Line(text));
}

/// <summary>What became of a message.</summary>
public enum MessageState
{
    Waiting,

    /// <summary>Its way has said that it has it.</summary>
    Delivered,

    /// <summary>Its way refused it for good.</summary>
    Refused,

    /// <summary>It was left out: its recipient is not set any more, or too many waited.</summary>
    Dropped,
}
