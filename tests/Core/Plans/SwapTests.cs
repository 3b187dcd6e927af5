using CalmSentry.Core.Plans;
using CalmSentry.Core.Runs;
using CsCheck;

namespace CalmSentry.Tests.Core.Plans;

/// <summary>New program files: whatever is cut off when, in the end they are all of one version, and it runs with them.</summary>
public class SwapTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static readonly FileVersion Old = new(1, "1001"),
        New = new(2, "1002");

    /// <summary>A service, its files, a server that is lost now and then, and a machine that is.</summary>
    private sealed class Place
    {
        private readonly Random random;
        private readonly bool good,
            goodBefore,
            up;

        private long? files = 1;
        private long run;
        private bool lives,
            running,
            stopping,
            stopAsked;
        private string? failed,
            refused;
        private bool resumed,
            asker = true,
            other,
            restless;

        public DateTimeOffset Now { get; private set; } = Start;

        public string? Stuck { get; set; }

        public bool Reboots { get; init; } = true;

        /// <summary>Something is at work in its files: it is stopped before they are looked at, and they may be others then.</summary>
        public bool Restless
        {
            init
            {
                restless = value;
                if (value)
                    Swap = Swap with { Step = SwapStep.Looking, Version = new(2, "") };
            }
        }

        /// <summary>New files are not taken once it is stopped.</summary>
        public bool Unfit { get; init; }

        public Swap Swap { get; private set; }

        public bool AskerLost => !asker;

        public Place(int seed, bool good, bool goodBefore, bool up = true)
        {
            random = new(seed);
            (this.good, this.goodBefore, this.up) = (good, goodBefore, up);
            (run, lives, running, stopAsked) = (up ? 1 : 0, up, up, !up);
            Swap = Fresh with { WasUp = up };
        }

        private SwapStanding At =>
            new(
                lives,
                stopping,
                running,
                new(run),
                run > Swap.From && failed is { } why ? new(new(run), why) : null,
                stopAsked,
                SwapLife.Wanted(Swap) is null ? null : files,
                Stuck,
                other,
                asker ? refused : "the sentry ended before its new files were ready"
            );

        public void Step()
        {
            var (after, deed) = SwapLife.Step(Swap, At, Now, resumed);
            resumed = false;
            Swap = after;
            // On record, and lost before it is done, or right after.
            if (random.Next(4) > 0)
                Do(deed);
            else
                Lost();
            if (random.Next(6) == 0)
                Lost();
        }

        private void Lost()
        {
            resumed = true;
            (asker, other, Stuck) = (false, false, null);
            // What was half exchanged is made whole before anything is begun.
            files ??= SwapLife.Wanted(Swap)!.Number;
            if (random.Next(3) > 0 || !Reboots)
                return;
            // The machine was lost, too: what begins with it is begun.
            (stopping, running, failed) = (false, false, null);
            if (lives = up)
                run++;
            stopAsked = false;
        }

        private void Do(SwapDeed deed)
        {
            switch (deed)
            {
                case SwapDeed.Stop:
                    stopping = lives;
                    break;
                case SwapDeed.Look:
                    Assert.True(asker && !lives);
                    (Stuck, other, refused) = (null, false, Unfit ? "there is no room for them" : null);
                    if (!Unfit)
                        Swap = Swap with { Step = SwapStep.Stopping, Version = New };
                    break;
                case SwapDeed.Exchange
                    when !lives && restless && asker && Swap.Step == SwapStep.Exchanging && random.Next(4) == 0:
                    (Stuck, other) = ("somebody has put something else there", true);
                    break;
                case SwapDeed.Exchange when !lives:
                    files = SwapLife.Wanted(Swap)!.Number;
                    // Cut off in the middle, it cannot be told which they are.
                    if (random.Next(4) == 0)
                    {
                        files = null;
                        Lost();
                    }

                    break;
                case SwapDeed.Begin when !lives:
                    Assert.NotNull(files);
                    (lives, running, failed, stopAsked) = (true, false, null, false);
                    run++;
                    break;
            }
        }

        /// <summary>Time passes: a stop ends, a start is proven or fails, what is bad falls.</summary>
        public void Pass()
        {
            Now += TimeSpan.FromSeconds(random.Next(1, 40));
            var isGood = files == 1 ? goodBefore : good;
            if (stopping && random.Next(2) == 0)
                (lives, running, stopping) = (false, false, false);
            else if (lives && !running && !stopping)
                if (isGood)
                    running = true;
                else
                    (lives, failed) = (false, $"run {run} exited with code 1");
        }

        public void SomebodyStops() => (stopAsked, stopping) = (true, lives);

        public bool Lives => lives;

        public bool Stopping => stopping;

        public bool IsRunning => running;

        public long? Files => files;

        public void ToItsEnd()
        {
            for (var turns = 0; Swap.Step != SwapStep.Done; turns++)
            {
                Assert.False(Swap.CameTrue, "what is not over has not come true");
                Assert.True(turns < 1000, $"it comes to an end: {Swap.Step}");
                Step();
                Pass();
            }
        }
    }

    [Fact]
    public void It_ends_with_the_new_files_or_with_those_before_and_never_with_a_mixture() =>
        Gen.Select(Gen.Int, Gen.Bool)
            .Sample(
                (seed, good) =>
                {
                    var place = new Place(seed, good, goodBefore: true);
                    place.ToItsEnd();
                    Assert.Equal(good ? 2 : 1, place.Files);
                    Assert.True(place.IsRunning);
                    Assert.Equal(good, place.Swap.CameTrue);
                    Assert.Null(place.Swap.Down);
                },
                iter: 5000
            );

    [Fact]
    public void What_is_stopped_before_its_new_files_are_ready_runs_again_in_the_end_with_files_of_one_version() =>
        Gen.Select(Gen.Int, Gen.Bool)
            .Sample(
                (seed, unfit) =>
                {
                    var place = new Place(seed, good: true, goodBefore: true) { Restless = true, Unfit = unfit };
                    place.ToItsEnd();
                    Assert.True(place.IsRunning, $"{place.Swap}");
                    Assert.Null(place.Swap.Down);
                    Assert.Equal(place.Swap.Why is null ? 2 : 1, place.Files);
                    Assert.True(place.Swap.Why is not null || !unfit);
                    // Without a lost server new files that are fit come to be in place.
                    Assert.True(place.Swap.Why is null || unfit || place.AskerLost);
                },
                iter: 5000
            );

    [Fact]
    public void With_both_of_them_bad_it_ends_all_the_same_and_says_so() =>
        Gen.Int.Sample(
            seed =>
            {
                var place = new Place(seed, good: false, goodBefore: false);
                place.ToItsEnd();
                Assert.Equal(1, place.Files);
                Assert.EndsWith("exited with code 1", place.Swap.Down, StringComparison.Ordinal);
                Assert.False(place.IsRunning);
            },
            iter: 1000
        );

    [Fact]
    public void What_was_down_gets_its_files_and_stays_down() =>
        Gen.Int.Sample(
            seed =>
            {
                var place = new Place(seed, good: true, goodBefore: true, up: false);
                place.ToItsEnd();
                Assert.Equal(2, place.Files);
                Assert.False(place.IsRunning);
                Assert.Null(place.Swap.Down);
            },
            iter: 1000
        );

    [Fact]
    public void What_somebody_stops_meanwhile_stays_down_with_files_of_one_version() =>
        Gen.Select(Gen.Int, Gen.Int[0, 8], Gen.Bool)
            .Sample(
                (seed, after, good) =>
                {
                    var place = new Place(seed, good, goodBefore: true) { Reboots = false };
                    for (var turn = 0; turn < after && place.Swap.Step != SwapStep.Done; turn++)
                    {
                        place.Step();
                        place.Pass();
                    }

                    if (place.Swap.Step == SwapStep.Done)
                        return;
                    place.SomebodyStops();
                    place.ToItsEnd();
                    while (place.Stopping)
                        place.Pass();
                    Assert.False(place.Lives, $"{place.Swap}");
                    Assert.NotNull(place.Files);
                },
                iter: 5000
            );

    private static readonly SwapStanding Down = new(false, false, false, new(1), null, false, 1, null);

    private static Swap Fresh =>
        new()
        {
            By = new("anna"),
            Began = Start,
            Directory = "/srv/skerry/board",
            Before = Old,
            Version = New,
            WatchFor = TimeSpan.FromMinutes(1),
            WasUp = true,
        };

    [Fact]
    public void Files_that_cannot_be_exchanged_stay_as_they_were_and_it_is_begun_with_them()
    {
        var (after, deed) = SwapLife.Step(
            Fresh with
            {
                Step = SwapStep.Exchanging,
            },
            Down with
            {
                Stuck = "it is in use",
            },
            Start
        );
        Assert.Equal((SwapStep.BeginningAgain, SwapDeed.Begin, "it is in use"), (after.Step, deed, after.Why));
    }

    [Fact]
    public void Of_files_that_are_neither_nothing_is_begun()
    {
        var (after, deed) = SwapLife.Step(
            Fresh with
            {
                Step = SwapStep.Exchanging,
            },
            Down with
            {
                Files = null,
                Stuck = "somebody has put something else there",
            },
            Start
        );
        Assert.Equal((SwapStep.Done, SwapDeed.None), (after.Step, deed));
        Assert.NotNull(after.Down);
        Assert.Null(after.InPlace);
    }

    [Theory]
    [InlineData(2L)]
    [InlineData(null)]
    public void Files_that_cannot_be_brought_back_are_told_as_what_they_are(long? found)
    {
        var returning = Fresh with { Step = SwapStep.Returning, Why = "it fell", FailedRun = new(2) };
        var (after, deed) = SwapLife.Step(returning, Down with { Files = found, Stuck = "it is in use" }, Start);
        Assert.Equal((SwapStep.Done, SwapDeed.None, found), (after.Step, deed, after.InPlace));
        Assert.Equal("the files before cannot be brought back: it is in use", after.Down);
        var (returned, _) = SwapLife.Step(returning with { WasUp = false }, Down with { Files = 1 }, Start);
        Assert.Equal((SwapStep.Done, 1L), (returned.Step, returned.InPlace));
    }

    [Fact]
    public void A_stop_of_somebody_ends_it_with_the_new_files()
    {
        var watching = Fresh with { Step = SwapStep.Watching, ProvenAt = Start, From = new(1) };
        var (after, _) = SwapLife.Step(watching, Down with { LastRun = new(2), Files = null }, Start.AddSeconds(5));
        Assert.Equal((SwapStep.Done, "it was stopped meanwhile"), (after.Step, after.Down));
    }

    [Fact]
    public void A_job_is_not_interrupted()
    {
        var live = Down with { Lives = true, Running = true };
        var (waits, none) = SwapLife.Step(Fresh with { IsJob = true, WasUp = false }, live, Start);
        Assert.Equal((SwapStep.Stopping, SwapDeed.None), (waits.Step, none));
        var (after, deed) = SwapLife.Step(waits, Down, Start);
        Assert.Equal((SwapStep.Exchanging, SwapDeed.Exchange), (after.Step, deed));
        var (done, _) = SwapLife.Step(after, Down with { Files = 2 }, Start);
        Assert.Equal((SwapStep.Done, (string?)null), (done.Step, done.Down));
    }

    [Fact]
    public void It_must_stay_well_for_as_long_as_was_set_whatever_the_clock_is_set_to()
    {
        var well = new SwapStanding(true, false, true, new(2), null, false, null, null);
        var watching = (Fresh with { Step = SwapStep.Watching, ProvenAt = Start, From = new(1) }).Shifted(
            TimeSpan.FromHours(1)
        );
        Assert.Equal(SwapStep.Watching, SwapLife.Step(watching, well, Start.AddHours(1).AddSeconds(59)).After.Step);
        Assert.Equal(SwapStep.Done, SwapLife.Step(watching, well, Start.AddHours(1).AddSeconds(60)).After.Step);
        var (back, deed) = SwapLife.Step(watching, well with { Failed = new(new(2), "no answer") }, Start.AddHours(1));
        Assert.Equal((SwapStep.StoppingAgain, SwapDeed.Stop, new RunNumber(2)), (back.Step, deed, back.FailedRun));
    }
}
