using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>What follows an end, case by case, and the laws of pauses.</summary>
public class RecoveryTests
{
    private static readonly DateTimeOffset Now = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static Definition With(RecoverPart recover, string name = "gate-counter") =>
        new()
        {
            Name = name,
            Title = "Gate counter",
            Identity = new("skerry"),
            Program = new("/srv/skerry/gate-counter", [], null, ImmutableSortedDictionary<string, string>.Empty),
            Recover = recover,
        };

    public static TheoryData<RecoverAfter, string, CodeFollow?, bool, double, Verdict, bool, double> Cases =>
        new()
        {
            // after, end, what its code says, failed start, seconds up → verdict, bad, pause in seconds
            { RecoverAfter.Failure, "0", null, false, 60, Verdict.Rest, false, 0 },
            { RecoverAfter.Failure, "0", null, true, 0.1, Verdict.Again, true, 1 },
            { RecoverAfter.Failure, "3", null, false, 60, Verdict.Again, true, 1 },
            { RecoverAfter.AnyEnd, "0", null, false, 60, Verdict.Again, false, 1 },
            { RecoverAfter.Never, "3", null, false, 60, Verdict.Rest, true, 0 },
            { RecoverAfter.Failure, "3", CodeFollow.Done, false, 60, Verdict.Rest, false, 0 },
            { RecoverAfter.Failure, "0", CodeFollow.Again, false, 60, Verdict.Again, false, 1 },
            { RecoverAfter.Never, "75", CodeFollow.Again, false, 60, Verdict.Again, true, 1 },
            { RecoverAfter.Failure, "75", CodeFollow.AgainAtOnce, false, 60, Verdict.Again, false, 0 },
            { RecoverAfter.Failure, "75", CodeFollow.AgainAtOnce, false, 0.5, Verdict.Again, false, 1 }, // too short a run: no hot loop
            { RecoverAfter.Failure, "3", CodeFollow.Hold, false, 60, Verdict.Hold, true, 0 },
            { RecoverAfter.AnyEnd, "9", CodeFollow.StopDependents, false, 60, Verdict.Rest, true, 0 },
            { RecoverAfter.Failure, "SEGV", CodeFollow.Hold, false, 60, Verdict.Hold, true, 0 },
        };

    [Theory]
    [MemberData(nameof(Cases))]
    public void Each_end_leads_where_it_must(
        RecoverAfter after,
        string end,
        CodeFollow? then,
        bool failedStart,
        double upFor,
        Verdict verdict,
        bool bad,
        double pause
    )
    {
        var outcome = SignalNames.Ends.TryGetValue(end, out var signal)
            ? new Outcome(OutcomeKind.Signalled, signal)
            : new Outcome(OutcomeKind.Exited, int.Parse(end, System.Globalization.CultureInfo.InvariantCulture));
        var codes = ImmutableSortedDictionary<string, CodeFollow>.Empty;
        var decision = RecoveryDecision.After(
            With(
                new()
                {
                    After = after,
                    Spread = 0,
                    Codes = then is { } code ? codes.Add(end, code) : codes,
                }
            ),
            Situation.New(Now),
            outcome,
            failedStart,
            TimeSpan.FromSeconds(upFor),
            Now
        );
        Assert.Equal(
            (verdict, bad, pause, then == CodeFollow.StopDependents),
            (decision.Verdict, decision.Bad, decision.Pause.TotalSeconds, decision.StopsDependents)
        );
    }

    [Fact]
    public void A_pause_is_longer_by_no_more_than_its_spread_and_what_fell_together_is_scattered()
    {
        var part = new RecoverPart
        {
            Spread = 20,
            HoldEnds = 0,
            First = TimeSpan.FromSeconds(10),
        };
        var pauses = Enumerable
            .Range(0, 200)
            .Select(i =>
                RecoveryDecision
                    .After(
                        With(part, $"gate-{i}"),
                        Situation.New(Now) with
                        {
                            LastRun = new(3),
                        },
                        new(OutcomeKind.Exited, 1),
                        false,
                        default,
                        Now
                    )
                    .Pause.TotalSeconds
            )
            .ToList();
        Assert.All(pauses, pause => Assert.InRange(pause, 10, 12));
        // Evenly enough: each tenth of the spread has some.
        Assert.Equal(10, pauses.Select(pause => (int)((pause - 10) / 0.2)).Distinct().Count());
    }

    [Fact]
    public void Pauses_grow_to_the_longest_and_no_further() =>
        Gen.Select(Gen.Int[0, 60_000], Gen.Double[1, 100], Gen.Int[0, 600_000], Gen.Int[0, 5000])
            .Sample(
                (first, grow, longest, pauses) =>
                {
                    var part = new RecoverPart
                    {
                        First = TimeSpan.FromMilliseconds(first),
                        Grow = grow,
                        Longest = TimeSpan.FromMilliseconds(longest),
                    };
                    var (one, next) = (
                        RecoveryDecision.PauseOf(part, pauses),
                        RecoveryDecision.PauseOf(part, pauses + 1)
                    );
                    Assert.True(
                        next >= one && one >= part.First && one <= TimeSpan.FromMilliseconds(Math.Max(first, longest))
                    );
                }
            );
}
