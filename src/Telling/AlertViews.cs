using CalmSentry.Contract.Api;
using CalmSentry.Core.Telling;
using CalmSentry.Store;

namespace CalmSentry.Telling;

/// <summary>Alerts and messages as the API tells them.</summary>
internal static class AlertViews
{
    public static AlertView Of(Alert alert) =>
        new()
        {
            Number = alert.Number,
            Cause = alert.Cause.Kind,
            CauseName = alert.Cause.Name.Length == 0 ? null : alert.Cause.Name,
            Subject = MessageWords.Subject(alert.WellSince is null ? alert : alert.AsTold(null)),
            Topic = alert.Worst,
            Urgency = alert.Urgency,
            Began = alert.Began,
            WellSince = alert.WellSince,
            Over = alert.OverAt,
            Returns = alert.Returns,
            PartOf = alert.PartOf,
            TakenBy = alert.Taken?.By,
            TakenAt = alert.Taken?.At,
            TakenNote = alert.Taken?.Note,
            TakenUntil = alert.Taken?.Until,
            Lasts = alert.Lasts,
            MayBeClosed = alert is { OverAt: null, PartOf: null } && AlertLife.CanClose(alert),
            Affected =
            [
                .. alert.Affected.Select(one => new AffectedView(
                    one.Service,
                    one.Title,
                    one.Since,
                    one.Worst,
                    one.What,
                    one.Times,
                    one.IsWell
                )),
            ],
            More = alert.More,
            Heard = [.. alert.Heard.Select(one => new HeardView(one.Recipient, one.Times[^1], one.Messages))],
        };

    public static ReportView Of(Message report, DateTimeOffset from) =>
        new()
        {
            From = from,
            Until = report.At,
            Subject = report.Subject,
            Text = MessageText.Plain(report),
            Html = MessageText.Html(report),
            Lead = report.Lead,
            Parts = [.. report.Parts.Select(part => new ReportPartView(part.Of!.Value, part.Title ?? "", part.Lines))],
            Strips =
            [
                .. report.Strips.Select(strip => new StripView(
                    strip.Service,
                    strip.Title,
                    [.. strip.Parts.Select(part => new StripPartView(part.From, part.To, part.Time))]
                )),
            ],
        };

    public static MessageView Of(StoredMessage one) =>
        new()
        {
            Number = one.Number,
            Id = one.Id,
            Alert = one.Alert,
            Recipient = one.Recipient,
            Kind = one.Message?.Kind,
            At = one.At,
            State = one.State,
            Tries = one.Tries,
            Tried = one.Tried,
            Answer = one.Answer,
            Subject = one.Message?.Headline,
            Text = one.Message is { } read ? MessageText.Plain(read) : null,
        };
}
