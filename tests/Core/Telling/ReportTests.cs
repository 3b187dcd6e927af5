using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>The report: two lines when all was well, one page when it was not.</summary>
public class ReportTests
{
    private static readonly DateTimeOffset From = Wire.Start,
        Until = Wire.Start.AddDays(1);

    private static Reported Of(
        string name,
        int failures = 0,
        string? attention = null,
        bool job = false,
        int done = 0,
        params (double Hours, ServiceTime Time)[] turns
    ) =>
        new(
            name,
            name,
            job,
            [.. turns.Select(turn => (From.AddHours(turn.Hours), turn.Time))],
            failures,
            done,
            attention
        );

    private static Report With(params Reported[] services) =>
        new()
        {
            Host = "quay-host",
            From = From,
            Until = Until,
            Services = [.. services],
            Alerts = [],
            Changes = [],
            Missed = [],
            Planned = ["tomorrow"],
            Warnings = [],
        };

    [Fact]
    public void Two_lines_when_all_was_well()
    {
        var message = ReportWords.Of(
            With(Of("board", turns: (-5, ServiceTime.Up)), Of("pull", job: true, done: 96)),
            TimeZoneInfo.Utc
        );
        Assert.Equal("Report: all was well", message.Subject);
        var lines = MessageText.Plain(message).Split('\n', StringSplitOptions.RemoveEmptyEntries);
        Assert.Equal(
            [
                "2026-03-02 08:00 to 2026-03-03 08:00: 1 service without a failure, 96 runs of jobs done.",
                "Sent by Calm Sentry on quay-host.",
            ],
            lines
        );
        Assert.Empty(message.Strips);
    }

    [Fact]
    public void What_failed_is_drawn_where_it_did()
    {
        var message = ReportWords.Of(
            With(
                Of(
                    "ledger",
                    failures: 2,
                    attention: "it is on hold",
                    turns: [(-5, ServiceTime.Up), (6, ServiceTime.Fallen), (12, ServiceTime.Planned)]
                )
            ),
            TimeZoneInfo.Utc
        );
        Assert.Equal("Report: 1 service needs attention", message.Subject);
        var text = MessageText.Plain(message);
        Assert.Contains("ledger: it is on hold", text, StringComparison.Ordinal);
        Assert.Contains(
            $"{new string('#', 12)}{new string('!', 12)}{new string('·', 24)}  ledger: 50 %, 2 failed",
            text,
            StringComparison.Ordinal
        );
        var strip = Assert.Single(message.Strips);
        Assert.Equal(
            [
                new StripPart(0, 0.25, ServiceTime.Up),
                new StripPart(0.25, 0.5, ServiceTime.Fallen),
                new StripPart(0.5, 1, ServiceTime.Planned),
            ],
            strip.Parts
        );
        Assert.Contains("title=\"failed\"", MessageText.Html(message), StringComparison.Ordinal);
    }

    [Fact]
    public void A_service_that_was_wrapped_within_the_time_has_no_picture_before()
    {
        var message = ReportWords.Of(With(Of("new", failures: 1, turns: (12, ServiceTime.Up))), TimeZoneInfo.Utc);
        Assert.Equal(new StripPart(0.5, 1, ServiceTime.Up), Assert.Single(Assert.Single(message.Strips).Parts));
    }

    [Fact]
    public void What_is_much_is_cut_and_counted()
    {
        var changes = Enumerable.Range(0, 100).Select(i => $"change {i}").ToImmutableArray();
        var message = ReportWords.Of(With(Of("x", failures: 1)) with { Changes = changes }, TimeZoneInfo.Utc);
        var part = Assert.Single(message.Parts, part => part.Title == "What was changed");
        Assert.Equal((31, "and 70 more"), (part.Lines.Length, part.Lines[^1]));
    }
}
