using System.Text;
using System.Text.RegularExpressions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Forwarding;
using CalmSentry.Tests.Core.Entries;
using CsCheck;

namespace CalmSentry.Tests.Core.Forwarding;

/// <summary>Every entry, whatever is in it, is a message as RFC 5424 has it, and says what the entry says.</summary>
public partial class SyslogMessageTests
{
    private static readonly Gen<string> Texts = Gen.OneOf(
        Gen.String,
        Gen.String[Gen.Char["\"\\]\r\n\0\té€ \u007f"], 0, 80],
        Gen.Int[0, 5000].Select(length => new string('å', length))
    );

    private static readonly Gen<Forwarded> Entries = Gen.Select(
        Gen.Long[1, long.MaxValue],
        Gen.DateTimeOffset,
        Texts.Null(),
        Gen.Int[0, EntryKinds.All.Length - 1].Select(i => EntryKinds.All[i]),
        Texts,
        Texts.Null(),
        Gen.Bool,
        (number, at, service, kind, seen, by, tells) =>
            new Forwarded(
                number,
                at,
                Whole(service),
                AnyEntry.Of(kind, Whole(seen)!),
                Whole(by),
                tells,
                new string('a', 64)
            )
    );

    /// <summary>Half of a character is refused at every door.</summary>
    private static string? Whole(string? text) =>
        text is null ? null : string.Concat(text.Where(c => !char.IsSurrogate(c)));

    // RFC 5424, section 6: HEADER SP STRUCTURED-DATA SP MSG, with the values of structured data escaped as in 6.3.3.
    [GeneratedRegex(
        """
            ^<(?<pri>[0-9]{1,3})>1 (?<at>[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}\.[0-9]{6}[+-][0-9]{2}:[0-9]{2}) (?<host>[!-~]{1,255}) calm-sentry (?<proc>[!-~]{1,128}) (?<id>[!-~]{1,32}) (?<data>(\[[!#-<>-\\^-~]{1,32}( [!#-<>-\\^-~]{1,32}="([^"\\\]]|\\["\\\]])*")*\])+) \uFEFF(?<text>.*)$
            """,
        RegexOptions.ExplicitCapture
    )]
    private static partial Regex Form();

    [Fact]
    public void Any_entry_is_a_message_of_the_standard() =>
        Entries.Sample(entry =>
        {
            var bytes = SyslogMessage.Of(entry, "quay-1");
            Assert.InRange(bytes.Length, 1, SyslogMessage.Longest);
            var text = new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(bytes);
            var message = Form().Match(text);
            Assert.True(message.Success, text);
            Assert.DoesNotContain(text, char.IsControl);
            Assert.InRange(int.Parse(message.Groups["pri"].Value), 3 * 8, (3 * 8) + 7);
            Assert.Contains(
                $"[meta sequenceId=\"{SyslogMessage.SequenceOf(entry.Number)}\"]",
                message.Groups["data"].Value,
                StringComparison.Ordinal
            );
            Assert.Contains($" id=\"{entry.Number}\"", message.Groups["data"].Value, StringComparison.Ordinal);
        });

    [Fact]
    public void A_sequence_runs_from_one_to_the_end_and_begins_again() =>
        Assert.Equal(
            [1, 2, int.MaxValue, 1, 2],
            ((long[])[1, 2, int.MaxValue, int.MaxValue + 1L, int.MaxValue + 2L]).Select(SyslogMessage.SequenceOf)
        );

    [Fact]
    public void A_message_says_what_the_entry_says()
    {
        var entry = new Forwarded(
            17,
            new(2026, 11, 20, 3, 12, 30, 250, TimeSpan.FromHours(1)),
            "fare-ledger",
            new StopAskedEntry(new(4)),
            "anna \"the\" [one]",
            false,
            "5f0c"
        );
        Assert.Equal(
            "<30>1 2026-11-20T03:12:30.250000+01:00 quay calm-sentry - stop-asked [meta sequenceId=\"17\"]"
                + "[calm@32473 id=\"17\" hash=\"5f0c\" service=\"fare-ledger\" by=\"anna \\\"the\\\" [one\\]\" run=\"4\"] "
                + "\uFEFFfare-ledger: Stop requested.",
            Encoding.UTF8.GetString(SyslogMessage.Of(entry, "quay"))
        );
    }

    [Theory]
    [InlineData("fell", false, EntrySeverity.Error)]
    [InlineData("held", false, EntrySeverity.Critical)]
    [InlineData("held", true, EntrySeverity.Alert)]
    [InlineData("adjusted", false, EntrySeverity.Notice)]
    [InlineData("launched", false, EntrySeverity.Informational)]
    public void It_says_how_bad_it_is(string word, bool tells, EntrySeverity severity) =>
        Assert.Equal(severity, AnyEntry.Of(EntryKinds.Find(word)!, "it").SeverityIf(tells));

    [Fact]
    public void What_a_program_warns_of_is_worse_than_what_it_notes()
    {
        Assert.Equal(EntrySeverity.Warning, new NotedEntry(null, NoteManner.Warns, "it", []).SeverityIf(tells: false));
        Assert.Equal(EntrySeverity.Notice, new NotedEntry(null, NoteManner.Notes, "it", []).SeverityIf(tells: false));
    }
}
