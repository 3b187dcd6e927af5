using CalmSentry.Core.Entries;
using CalmSentry.Store;
using CalmSentry.Telling;
using CsCheck;

namespace CalmSentry.Tests.Engine.Telling;

/// <summary>Whatever comes in whatever order, each entry is taken in once, in its order, and what is kept in memory is bounded.</summary>
public class IntakeTests
{
    private const int Most = 5;

    private enum What
    {
        Comes,

        /// <summary>One more is on record.</summary>
        OnRecord,
        Looks,

        /// <summary>A look fails after it took in some.</summary>
        Fails,
    }

    private static StoredEntry Numbered(long number) =>
        new(number, DateTimeOffset.UnixEpoch, null, new HeldEntry(null, null), null, true);

    [Fact]
    public void Each_is_taken_in_once_and_in_order() =>
        Gen.Select(
                Gen.Frequency(
                    (6, Gen.Const(What.Comes)),
                    (4, Gen.Const(What.OnRecord)),
                    (3, Gen.Const(What.Looks)),
                    (1, Gen.Const(What.Fails))
                ).Array[1, 200],
                Gen.Int[1, 4]
            )
            .Sample(
                (story, batch) =>
                {
                    var intake = new Intake(Most);
                    var (came, recorded) = (0L, 0L);
                    var taken = new List<long>();
                    foreach (var what in story)
                        Happens(what);
                    recorded = came;
                    for (var i = 0; i < 1000 && !intake.IsEmpty; i++)
                        Happens(What.Looks);
                    Assert.Equal(Enumerable.Range(1, (int)came).Select(number => (long)number), taken);
                    Assert.True(intake.IsEmpty);

                    void Happens(What what)
                    {
                        switch (what)
                        {
                            case What.Comes:
                                intake.Hear(Numbered(++came));
                                break;
                            case What.OnRecord:
                                recorded = Math.Min(came, recorded + 1);
                                break;
                            default:
                                var before = taken.Count;
                                Look();
                                if (what == What.Fails)
                                {
                                    taken.RemoveRange(before, taken.Count - before);
                                    intake.ReadAnew();
                                }

                                break;
                        }
                    }

                    // As the teller does it.
                    void Look()
                    {
                        var last = taken.LastOrDefault();
                        for (var i = 0; i < batch && intake.Take() is { } entry; i++)
                            TakeIn(entry.Number, ref last);
                        if (intake.Behind is null)
                            return;
                        for (var number = last + 1; number <= recorded; number++)
                            TakeIn(number, ref last);
                        intake.HasRead(last);
                    }

                    void TakeIn(long number, ref long last)
                    {
                        if (number <= last)
                            return;
                        taken.Add(last = number);
                    }
                }
            );
}
