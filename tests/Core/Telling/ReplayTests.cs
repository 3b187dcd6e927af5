using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Telling;

namespace CalmSentry.Tests.Core.Telling;

/// <summary>Recipients tried on the past.</summary>
public class ReplayTests
{
    private static readonly DateTimeOffset Start = Wire.Start;

    private static readonly Dictionary<string, Definition> Services = new(StringComparer.Ordinal)
    {
        ["fare-ledger"] = Definition.Empty with { Name = "fare-ledger", Title = "Fare ledger", Labels = ["money"] },
        ["gate-counter"] = Definition.Empty with { Name = "gate-counter", Title = "Gate counter" },
    };

    private static readonly Entry Held = new HeldEntry(new(1), null) { Why = "it fell" },
        Proven = new ProvenEntry(new(2), "it answers", null, null, null),
        Fell = new FellEntry(new(1), new(OutcomeKind.Exited, 1))
        {
            Next = EntryNext.Restart,
            Pause = TimeSpan.FromSeconds(1),
        };

    private static EntryCame At(int minutes, string service, Entry entry, bool tells = false, int number = 0) =>
        new(number == 0 ? minutes + 1 : number, Start.AddMinutes(minutes), service, entry, tells);

    private static IEnumerable<string> Of(IEnumerable<EntryCame> past, params Recipient[] recipients) =>
        Replay
            .Of(past, Services, recipients, new(), TimeZoneInfo.Utc, Start.AddDays(7), 1000)
            .Select(one => $"{(one.At - Start).TotalMinutes:0} {one.Recipient} {one.Kind} {one.Subject}");

    [Fact]
    public void A_hold_and_its_end()
    {
        Assert.Equal(
            ["5 office Begins Fare ledger is on hold", "35 office Over Over: Fare ledger is on hold"],
            Of(
                [
                    At(5, "fare-ledger", Held, tells: true),
                    At(10, "gate-counter", Proven),
                    At(30, "fare-ledger", Proven),
                ],
                Wire.Office
            )
        );
    }

    [Fact]
    public void Each_hears_of_its_own_and_what_comes_and_goes_is_one()
    {
        var money = Wire.Office with { Name = "money", Labels = ["money"] };
        var past = new List<EntryCame>();
        for (var i = 0; i < 40; i++)
        {
            past.Add(At(i * 3, "gate-counter", Held, tells: true));
            past.Add(At((i * 3) + 1, "gate-counter", Proven));
        }

        Assert.Equal(
            ["0 office Begins Gate counter is on hold", "123 office Over Over: Gate counter is on hold"],
            Of(past, Wire.Office, money)
        );
    }

    /// <summary>Each was restarted: nobody is told of one, and of the fifth within the hour once.</summary>
    [Fact]
    public void So_many_failures_within_a_time_are_told_though_each_was_restarted()
    {
        var past = new List<EntryCame>();
        for (var i = 0; i < 8; i++)
        {
            past.Add(At(i * 10, "gate-counter", Fell, number: (2 * i) + 1));
            past.Add(At((i * 10) + 1, "gate-counter", Proven, number: (2 * i) + 2));
        }

        Assert.Equal(
            [
                "40 office Begins Gate counter fails again and again",
                "46 office Over Over: Gate counter fails again and again",
            ],
            Of(past, Wire.Office).Take(2)
        );
        Assert.Contains(
            "0 each Begins Gate counter failed and was restarted",
            Of(past, Wire.Office with { Name = "each", About = ["restarted"] })
        );
    }

    [Fact]
    public void A_week_of_nothing_is_nothing() => Assert.Empty(Of([], Wire.Office));

    /// <summary>What is kept back in a quiet time is not told for other reasons, either; its end tells.</summary>
    [Fact]
    public void What_happened_in_a_quiet_time_was_kept_back()
    {
        var past = new List<EntryCame>
        {
            At(0, "gate-counter", new QuietBeganEntry(TimeSpan.FromHours(2), null, false)),
        };
        for (var i = 1; i < 8; i++)
            past.Add(At(i * 10, "gate-counter", Fell));
        past.Add(At(90, "gate-counter", new QuietOverEntry(TimeSpan.FromHours(2), 7, ["It fell"]), tells: true));
        Assert.Equal(["90 office Begins Gate counter had alerts while it was quiet"], Of(past, Wire.Office));
    }
}
