using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>
/// A simulated year of a program that fails in many ways: tries, holds and tells are as many as they must be, and its
/// time adds up.
/// </summary>
public class YearTests
{
    private static readonly TimeSpan Day = TimeSpan.FromDays(1);

    private static readonly Definition Ledger = new()
    {
        Name = "fare-ledger",
        Title = "Fare ledger",
        Identity = new("skerry"),
        Program = new("/srv/skerry/ledger", [], null, ImmutableSortedDictionary<string, string>.Empty),
        Begin = new() { At = BeginAt.Boot, Proof = new TcpProof("127.0.0.1:7411") },
        Watch =
        [
            new AnswerWatch(new TcpProof("127.0.0.1:7411"))
            {
                Beat = TimeSpan.FromSeconds(15),
                Patience = 3,
                Follows = WatchFollow.RestartByForce,
            },
        ],
        Recover = new()
        {
            First = TimeSpan.FromSeconds(1),
            Grow = 2,
            Longest = TimeSpan.FromSeconds(8),
            SteadyAfter = TimeSpan.FromMinutes(10),
            Spread = 0,
            HoldEnds = 5,
            HoldWithin = TimeSpan.FromMinutes(10),
            RetryEvery = TimeSpan.FromMinutes(30),
            Codes = ImmutableSortedDictionary<string, CodeFollow>.Empty.Add("75", CodeFollow.AgainAtOnce),
        },
    };

    private readonly World world = new(Ledger);
    private readonly List<(DateTimeOffset At, ServiceTime Time)> turns = [];
    private TimeSpan up,
        fallen;

    /// <summary>Lets time pass and counts it by hand, as the calendar of the test itself has it.</summary>
    private void Pass(TimeSpan length, bool isUp)
    {
        world.Passes(length);
        if (isUp)
            up += length;
        else
            fallen += length;
    }

    private void Note()
    {
        if (turns.Count == 0 || turns[^1].Time != ServiceTimes.Of(world.Situation))
            turns.Add((world.Now, ServiceTimes.Of(world.Situation)));
    }

    private void Runs()
    {
        world.Launch();
        world.Happens(new Proven(world.Live!.Value, "127.0.0.1:7411 takes connections"));
        Note();
    }

    private void Ends(Outcome outcome)
    {
        world.End(outcome);
        Note();
    }

    /// <summary>Waits for the pause that is due, counts it as fallen, and begins the next run.</summary>
    private void AfterPause(double seconds)
    {
        Assert.Equal(seconds, (world.Situation.WakeAt!.Value - world.Now).TotalSeconds);
        fallen += TimeSpan.FromSeconds(seconds);
        world.PassToNextDecision();
        Note();
    }

    private int Tells<T>() => world.Done.OfType<Note>().Count(note => note is { Tells: true, Entry: T });

    [Fact]
    public void A_year_of_failing_in_many_ways()
    {
        var began = world.Now;
        world.Happens(new MachineBegan());
        Runs();
        var (launches, holds, recoveries) = (1, 0, 0);
        for (var day = 0; day < 365; day++)
        {
            switch (day % 7)
            {
                case 0: // a crash a day: back after the first pause, for it had been steady
                    Pass(Day, isUp: true);
                    Ends(new(OutcomeKind.Signalled, 11));
                    AfterPause(1);
                    Runs();
                    launches++;
                    break;
                case 1: // three bad starts in a row, then it stays
                    Pass(Day, isUp: true);
                    Ends(new(OutcomeKind.Exited, 1));
                    foreach (var pause in new[] { 1.0, 2, 4 })
                    {
                        AfterPause(pause);
                        world.Launch();
                        Ends(new(OutcomeKind.Exited, 1));
                        launches++;
                    }

                    AfterPause(8);
                    Runs();
                    launches++;
                    break;
                case 2: // it hangs: three bad looks, ended by force
                    Pass(Day, isUp: true);
                    for (var look = 1; look <= 3; look++)
                    {
                        Pass(TimeSpan.FromSeconds(15), isUp: true);
                        world.Sees(world.Live!.Value, 0, good: false);
                    }

                    Note();
                    Assert.Single(world.Done.TakeLast(1).OfType<EndTree>());
                    Ends(new(OutcomeKind.Signalled, 9));
                    AfterPause(1);
                    Runs();
                    launches++;
                    break;
                case 3: // it cannot start at all: held, tried every half hour, four times in vain, then it is mended
                    Pass(Day, isUp: true);
                    Ends(new(OutcomeKind.Exited, 1));
                    foreach (var pause in new[] { 1.0, 2, 4, 8 })
                    {
                        AfterPause(pause);
                        world.Launch();
                        Ends(new(OutcomeKind.Exited, 0)); // a good code before it is proven is no good end
                        launches++;
                    }

                    holds++;
                    for (var beat = 0; beat < 4; beat++)
                    {
                        AfterPause(1800);
                        world.Launch();
                        Ends(new(OutcomeKind.Exited, 1));
                        launches++;
                        Assert.Equal(Phase.Held, world.Situation.Phase);
                    }

                    AfterPause(1800);
                    Runs();
                    (launches, recoveries) = (launches + 1, recoveries + 1);
                    break;
                case 4: // it replaces itself: no pause, no bad end
                    Pass(Day, isUp: true);
                    world.End(new(OutcomeKind.Exited, 75));
                    Runs();
                    launches++;
                    break;
                case 5: // held until a person releases it
                    Pass(Day, isUp: true);
                    Ends(new(OutcomeKind.Exited, 2));
                    foreach (var pause in new[] { 1.0, 2, 4, 8 })
                    {
                        AfterPause(pause);
                        world.Launch();
                        Ends(new(OutcomeKind.Exited, 2));
                        launches++;
                    }

                    holds++;
                    Pass(TimeSpan.FromMinutes(20), isUp: false);
                    world.Happens(new ReleaseAsked(new("anna")));
                    Note();
                    Runs();
                    launches++;
                    break;
                default: // a planned restart
                    Pass(Day, isUp: true);
                    world.Happens(new RestartAsked(new("anna")));
                    Note();
                    world.End(new(OutcomeKind.Signalled, 15));
                    Runs();
                    launches++;
                    break;
            }
        }

        Assert.Equal(launches, world.Launches);
        Assert.Equal(
            (holds, recoveries, holds + recoveries),
            (Tells<HeldEntry>(), Tells<RecoveredEntry>(), world.Done.OfType<Note>().Count(note => note.Tells))
        );
        var counted = ServiceTimes.Over(turns, began, world.Now);
        Assert.Equal((up, fallen), (counted.Up, counted.Fallen));
        Assert.Equal(TimeSpan.Zero, world.Now - began - up - fallen - counted.Planned);
        Assert.InRange(counted.Share!.Value, 0.98, 0.999);
    }
}
