using System.Globalization;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CsCheck;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>Messages survive whatever programs print: as text, as HTML, and in one line.</summary>
public class MessageTests
{
    private static Message Of(string output, string title = "Fare ledger") =>
        MessageWords.Of(
            new()
            {
                Number = 12,
                Cause = AlertCause.Of("fare-ledger"),
                Began = Wire.Start,
                Joined = Wire.Start,
                Affected = [new("fare-ledger", title, Wire.Start, 7, output, Topic.Held)],
            },
            MessageKind.Begins,
            new(output) { LastLines = [.. output.Split('\n')] },
            "quay-host",
            Wire.Start.AddSeconds(1),
            TimeZoneInfo.Utc
        );

    [Fact]
    public void It_says_what_is_wrong_since_when_whether_anybody_must_act_and_what_to_type()
    {
        var message = Of("paper is out");
        Assert.Equal("[quay-host] Fare ledger is on hold", message.Headline);
        Assert.Equal("Fare ledger is on hold, since 08:00:00. It needs attention.", message.Lead);
        var text = MessageText.Plain(message);
        Assert.Contains("  | paper is out\n", text, StringComparison.Ordinal);
        Assert.Contains("calm why fare-ledger", text, StringComparison.Ordinal);
        Assert.Contains("calm acknowledge 12", text, StringComparison.Ordinal);
    }

    [Fact]
    public void Nothing_that_a_program_prints_is_read_as_anything_but_text()
    {
        var evil =
            "<script>alert(1)</script>\r\nBcc: all@skerry.example\n\u001b]0;x\a\u001b[2J\u202Etxt.exe\u2028</pre><img src=x onerror=y>";
        var message = Of(evil, title: "Fare\r\nBcc: all@skerry.example");
        Assert.DoesNotContain(message.Headline, char.IsControl);
        var html = MessageText.Html(message);
        Assert.DoesNotContain("<script", html, StringComparison.Ordinal);
        Assert.DoesNotContain("<img", html, StringComparison.Ordinal);
        Assert.DoesNotContain('\u202E', html);
        var text = MessageText.Plain(message);
        Assert.DoesNotContain('\u001b', text);
        Assert.DoesNotContain('\u202E', text);
        Assert.Contains("<script>alert(1)</script>", text, StringComparison.Ordinal);
    }

    /// <summary>Tags of our own and nothing else, whatever characters there are.</summary>
    [Fact]
    public void Any_output_stays_within_its_element()
    {
        Gen.OneOf(Gen.Char, Gen.Int[0, 7].Select(i => "<>&\"'\0\ud800\u001b"[i]))
            .Array[0, 200]
            .Select(all => new string(all))
            .Sample(
                output =>
                {
                    var plain = MessageText.Html(Of("x"));
                    var html = MessageText.Html(Of("x" + output.Replace("\n", "", StringComparison.Ordinal)));
                    Assert.Equal(plain.Count(c => c == '<'), html.Count(c => c == '<'));
                    Assert.DoesNotContain(html, c => char.IsControl(c) && c != '\n');
                },
                iter: 500
            );
    }

    [Fact]
    public void Megabytes_are_cut()
    {
        var message = Of(string.Join('\n', Enumerable.Repeat(new string('x', 100_000), 100)));
        var quoted = Assert.Single(message.Parts, part => part.Quoted);
        Assert.Equal(20, quoted.Lines.Length);
        Assert.All(quoted.Lines, line => Assert.True(line.Length <= 501));
    }

    [Theory]
    [InlineData("07:00-22:00")]
    [InlineData("mon-fri 07:00-18:00")]
    [InlineData("sat 00:00-24:00")]
    [InlineData("fri-mon 22:00-06:00")]
    public void Hours_are_read_and_written_back(string text)
    {
        Assert.True(RecipientKeys.HoursOfDay.Read(text, out var hours));
        Assert.Equal(text, RecipientKeys.HoursOfDay.Write(hours));
    }

    [Theory]
    [InlineData("")]
    [InlineData("7-22")]
    [InlineData("08:00-08:00")]
    [InlineData("25:00-26:00")]
    [InlineData("mon-fri")]
    [InlineData("fri 22:00-06:00 ")]
    public void What_are_no_hours_is_refused(string text) => Assert.False(RecipientKeys.HoursOfDay.Read(text, out _));

    [Theory]
    [InlineData("07:00-22:00", "2026-03-02T06:00", "2026-03-02T07:00")]
    [InlineData("07:00-22:00", "2026-03-02T21:59", "2026-03-02T21:59")]
    [InlineData("07:00-22:00", "2026-03-02T22:00", "2026-03-03T07:00")]
    [InlineData("mon-fri 09:00-17:00", "2026-03-06T18:00", "2026-03-09T09:00")]
    [InlineData("fri-mon 22:00-06:00", "2026-03-03T05:00", "2026-03-03T05:00")] // Monday's night
    [InlineData("fri-mon 22:00-06:00", "2026-03-03T06:00", "2026-03-06T22:00")]
    [InlineData("sat 00:00-24:00", "2026-03-02T12:00", "2026-03-07T00:00")]
    public void The_next_moment_within_hours(string hours, string from, string next)
    {
        Assert.True(RecipientKeys.HoursOfDay.Read(hours, out var read));
        Assert.Equal(
            DateTimeOffset.Parse(next + "Z", CultureInfo.InvariantCulture),
            read.Next(DateTimeOffset.Parse(from + "Z", CultureInfo.InvariantCulture), TimeZoneInfo.Utc)
        );
    }

    /// <summary>Also over both daylight changes: never before, within the hours, and nothing of them is passed over.</summary>
    [Fact]
    public void Hours_in_a_zone_with_daylight_changes()
    {
        var zone = TimeZoneInfo.FindSystemTimeZoneById("Europe/Oslo");
        Assert.True(RecipientKeys.HoursOfDay.Read("02:30-03:30", out var hours));
        for (var at = new DateTimeOffset(2026, 3, 27, 0, 0, 0, TimeSpan.Zero); at.Month < 11; at = at.AddHours(7))
        {
            var next = hours.Next(at, zone);
            Assert.InRange(next - at, TimeSpan.Zero, TimeSpan.FromHours(25));
            if (next != at)
                Assert.InRange(TimeZoneInfo.ConvertTime(next, zone).TimeOfDay, new(2, 30, 0), new(3, 30, 0));
        }
    }
}
