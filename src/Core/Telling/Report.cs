using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Rhythms;

namespace CalmSentry.Core.Telling;

/// <summary>How one service fared in a time.</summary>
/// <param name="Turns">When its time began to count otherwise, oldest first.</param>
/// <param name="Failures">Runs that ended as they should not have.</param>
/// <param name="Done">Of a job: runs that ended well.</param>
/// <param name="Attention">Why it needs somebody now, as a clause; null: nobody.</param>
public sealed record Reported(
    string Name,
    string Title,
    bool IsJob,
    ImmutableArray<(DateTimeOffset At, ServiceTime Time)> Turns,
    int Failures,
    int Done,
    string? Attention
);

/// <summary>What happened in a time, for somebody who was not there.</summary>
public sealed record Report
{
    public required string Host { get; init; }

    public required DateTimeOffset From { get; init; }

    public required DateTimeOffset Until { get; init; }

    public required ImmutableArray<Reported> Services { get; init; }

    public required ImmutableArray<Alert> Alerts { get; init; }

    /// <summary>What was changed and by whom, a sentence each.</summary>
    public required ImmutableArray<string> Changes { get; init; }

    /// <summary>Planned runs that did not take place or were late, and jobs without a success for too long, a sentence each.</summary>
    public required ImmutableArray<string> Missed { get; init; }

    /// <summary>What is planned next, a line each.</summary>
    public required ImmutableArray<string> Planned { get; init; }

    /// <summary>What the sentry itself has to say, as sentences: a disk that fills, messages that do not arrive.</summary>
    public required ImmutableArray<string> Warnings { get; init; }

    /// <summary>What grows so that it becomes trouble within days, a sentence each.</summary>
    public ImmutableArray<string> Growth { get; init; } = [];

    /// <summary>What checks found that they had not found before, a sentence each.</summary>
    public ImmutableArray<string> Found { get; init; } = [];

    /// <summary>Services that differ from the files they were brought to, and since when, a line each.</summary>
    public ImmutableArray<string> Apart { get; init; } = [];

    public bool IsWell =>
        Warnings.IsEmpty
        && Apart.IsEmpty
        && Growth.IsEmpty
        && Found.IsEmpty
        && Alerts.IsEmpty
        && Missed.IsEmpty
        && Services.All(one => one is { Failures: 0, Attention: null });
}

/// <summary>A report as a message: one page, and two lines when all was well.</summary>
public static class ReportWords
{
    /// <summary>Pieces of a day's picture in text.</summary>
    private const int Pieces = 48,
        Quarters = 4,
        MostLines = 30;

    public static Message Of(Report report, TimeZoneInfo zone)
    {
        var well = report.IsWell;
        var fell = report.Services.Count(one => one.Failures > 0);
        var need = report.Services.Count(one => one.Attention is not null);
        return new()
        {
            Kind = MessageKind.Report,
            Alert = 0,
            Host = report.Host,
            At = report.Until,
            Urgency = Urgency.CanWait,
            // It is never taken for an alert.
            Subject =
                "Report: "
                + (
                    well ? "all was well"
                    : need > 0 ? $"{Services(need)} {(need == 1 ? "needs" : "need")} attention"
                    : fell > 0 ? $"{Services(fell)} failed and came back"
                    : "something to know"
                ),
            Lead =
                $"{At(report.From, zone)} to {At(report.Until, zone)}: "
                + (
                    well
                        ? $"{Services(report.Services.Count(one => !one.IsJob))} without a failure, {Runs(report.Services.Sum(one => one.Done))} of jobs done."
                        : $"{Services(need)} {(need == 1 ? "needs" : "need")} attention, {fell} failed, {Alerts(report.Alerts.Length)}."
                ),
            Parts = well ? [] : [.. Parts(report, zone).Where(part => !part.Lines.IsEmpty)],
            Scale = well ? [] : Scale(report, zone),
            Strips = well ? [] : [.. report.Services.Where(one => !one.IsJob).Select(one => Strip(one, report))],
        };
    }

    private static IEnumerable<MessagePart> Parts(Report report, TimeZoneInfo zone)
    {
        yield return Part(ReportPart.Warnings, report.Warnings);
        yield return Part(
            ReportPart.Attention,
            [.. report.Services.Where(one => one.Attention is not null).Select(one => $"{one.Title}: {one.Attention}")]
        );
        yield return Part(
            ReportPart.Alerts,
            Some(
                report.Alerts.Select(alert =>
                    $"{At(alert.Began, zone)} {MessageWords.Subject(alert)}{Became(alert, zone)}"
                )
            )
        );
        yield return Part(
            ReportPart.Strips,
            report.Services.All(one => one.IsJob)
                ? []
                :
                [
                    .. report.Services.Where(one => !one.IsJob).Select(one => Line(one, report)),
                    string.Concat(Scale(report, zone).Select(label => $"|{label}".PadRight(Pieces / Quarters))),
                ]
        );
        yield return Part(
            ReportPart.Jobs,
            [
                .. report
                    .Services.Where(one => one.IsJob)
                    .Select(one => $"{one.Title}: {Runs(one.Done)} done, {one.Failures} failed"),
                .. report.Missed,
            ]
        );
        yield return Part(ReportPart.Growth, Some(report.Growth));
        yield return Part(ReportPart.Found, Some(report.Found));
        yield return Part(ReportPart.Apart, Some(report.Apart));
        yield return Part(ReportPart.Changes, Some(report.Changes));
        yield return Part(ReportPart.Planned, Some(report.Planned));
    }

    private static MessagePart Part(ReportPart part, ImmutableArray<string> lines) =>
        new(
            part switch
            {
                ReportPart.Warnings => "To know about the sentry",
                ReportPart.Attention => "Needs attention",
                ReportPart.Alerts => "Alerts",
                ReportPart.Strips => "How they ran",
                ReportPart.Jobs => "Jobs",
                ReportPart.Growth => "What grows",
                ReportPart.Found => "What checks found that is new",
                ReportPart.Apart => "What differs from its files",
                ReportPart.Changes => "What was changed",
                _ => "What is planned",
            },
            lines,
            Of: part
        );

    private static ImmutableArray<string> Some(IEnumerable<string> lines)
    {
        var all = lines.ToList();
        return all.Count <= MostLines
            ? [.. all]
            :
            [
                .. all.Take(MostLines),
                string.Create(CultureInfo.InvariantCulture, $"and {all.Count - MostLines} more"),
            ];
    }

    private static string Became(Alert alert, TimeZoneInfo zone) =>
        alert.OverAt is { } over ? $"; over at {At(over, zone)}"
        : alert.Taken is { } taken ? $"; {taken.By} looks at it"
        : alert.Lasts ? "; it goes on"
        : "";

    /// <summary>When each quarter of the time begins: at what hour, or of a long time on what day.</summary>
    private static ImmutableArray<string> Scale(Report report, TimeZoneInfo zone)
    {
        var quarter = (report.Until - report.From) / Quarters;
        var format = quarter < TimeSpan.FromHours(12) ? "HH:mm" : "MM-dd HH:mm";
        return
        [
            .. Enumerable
                .Range(0, Quarters)
                .Select(i =>
                    WallClock.In(report.From + (quarter * i), zone).ToString(format, CultureInfo.InvariantCulture)
                ),
        ];
    }

    private static string Line(Reported one, Report report)
    {
        var time = ServiceTimes.Over(one.Turns, report.From, report.Until);
        var share = time.Share is { } part
            ? string.Create(CultureInfo.InvariantCulture, $"{part * 100:0.##} %")
            : "was not to run";
        return $"{Picture(one, report)}  {one.Title}: {share}"
            + (one.Failures == 0 ? "" : string.Create(CultureInfo.InvariantCulture, $", {one.Failures} failed"));
    }

    /// <summary>The time in pieces: # it ran, · it was not to, ! it should have and did not.</summary>
    private static string Picture(Reported one, Report report)
    {
        var piece = (report.Until - report.From) / Pieces;
        return string.Concat(
            Enumerable
                .Range(0, Pieces)
                .Select(i =>
                {
                    var from = report.From + (piece * i);
                    var time = ServiceTimes.Over(one.Turns, from, from + piece);
                    return time.Fallen > TimeSpan.Zero ? '!'
                        : time.Up > TimeSpan.Zero ? '#'
                        : '·';
                })
        );
    }

    private static Strip Strip(Reported one, Report report)
    {
        var (whole, parts) = (report.Until - report.From, ImmutableArray.CreateBuilder<StripPart>());
        for (var i = 0; i < one.Turns.Length; i++)
        {
            var from = one.Turns[i].At > report.From ? one.Turns[i].At : report.From;
            var to = i + 1 < one.Turns.Length ? one.Turns[i + 1].At : report.Until;
            if (to > from && from < report.Until)
                parts.Add(new((from - report.From) / whole, (to - report.From) / whole, one.Turns[i].Time));
        }

        return new(one.Name, one.Title, parts.ToImmutable());
    }

    private static string At(DateTimeOffset time, TimeZoneInfo zone) =>
        WallClock.In(time, zone).ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);

    private static string Services(int count) => Many(count, "service");

    private static string Runs(int count) => Many(count, "run");

    private static string Alerts(int count) => Many(count, "alert");

    private static string Many(int count, string what) =>
        string.Create(CultureInfo.InvariantCulture, $"{count} {what}{(count == 1 ? "" : "s")}");
}

/// <summary>When a report is sent, and to whom.</summary>
public sealed record ReportSettings
{
    public Rhythms.Rhythm? At { get; init; }

    /// <summary>Names of recipients; empty: all.</summary>
    public ImmutableArray<string> To { get; init; } = [];

    public static Shape<ReportSettings> Keys { get; } =
        new(
            KeyOf<ReportSettings>.Value(
                "at",
                RhythmKeys.Words,
                report => report.At?.ToString(),
                (report, text) => Rhythms.RhythmWords.TryRead(text, out var at) ? report with { At = at } : report,
                "When the report is sent, by the host's clock; it tells of the time since the one before."
            ) with
            {
                Example = "daily at 07:00",
            },
            KeyOf<ReportSettings>.Texts(
                "to",
                report => report.To,
                (report, to) => report with { To = to },
                "Which recipients get it.",
                Forms.ServiceName
            ) with
            {
                Default = "all",
            }
        );
}
