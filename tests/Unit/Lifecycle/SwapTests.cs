using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CsCheck;

namespace CalmSentry.Tests.Unit.Lifecycle;

/// <summary>New program files: whatever is cut off when, in the end they are all of one version, and it runs with them.</summary>
public class SwapTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    /// <summary>A service, its files and a server that is lost now and then.</summary>
    private sealed class Place(Random random, bool good, bool goodBefore)
    {
        private long? files = 1;
        private long run = 1;
        private bool lives = true,
            running = true,
            stopping;
        private string? failed;

        public DateTimeOffset Now { get; private set; } = Start;

        public Swap Swap { get; private set; } =
            new()
            {
                Service = "departure-board",
                By = new("anna"),
                Began = Start,
                Before = 1,
                Version = 2,
                WatchFor = TimeSpan.FromMinutes(1),
                WasUp = true,
            };

        public SwapStanding At => new(lives, stopping, running, new(run), failed, false, files);

        public void Step(bool resumed)
        {
            var (after, deed) = SwapLife.Step(Swap, At, Now, resumed);
            Swap = after;
            // On record, and lost before it is done.
            if (random.Next(4) == 0)
            {
                Lost();
                return;
            }

            Do(deed);
            if (random.Next(6) == 0)
                Lost();
        }

        private void Lost() => Step(resumed: true);

        private void Do(SwapDeed deed)
        {
            switch (deed)
            {
                case SwapDeed.Stop:
                    stopping = lives;
                    break;
                case SwapDeed.Exchange:
                    Assert.False(lives, "nothing is exchanged under a program that runs");
                    // Cut off in the middle, it cannot be told which they are.
                    files = random.Next(4) == 0 ? null
                        : Swap.Step is SwapStep.Exchanging ? Swap.Version
                        : Swap.Before;
                    break;
                case SwapDeed.Begin:
                    Assert.NotNull(files);
                    if (lives)
                        break;
                    (lives, running, failed) = (true, false, null);
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
                    (lives, failed) = (false, "it exited with code 1");
        }

        public bool IsRunning => running;

        public long? Files => files;
    }

    [Fact]
    public void It_ends_with_the_new_files_or_with_those_before_and_never_with_a_mixture() =>
        Gen.Select(Gen.Int, Gen.Bool)
            .Sample(
                (seed, good) =>
                {
                    var place = new Place(new(seed), good, goodBefore: true);
                    for (var turns = 0; place.Swap.Step != SwapStep.Done; turns++)
                    {
                        Assert.True(turns < 1000, $"it comes to an end: {place.Swap.Step}");
                        place.Step(resumed: false);
                        place.Pass();
                    }

                    Assert.Equal(good ? 2 : 1, place.Files);
                    Assert.True(place.IsRunning);
                    Assert.Equal(good, place.Swap.Why is null);
                    Assert.Null(place.Swap.Down);
                },
                iter: 3000
            );

    [Fact]
    public void With_both_of_them_bad_it_ends_all_the_same_and_says_so() =>
        Gen.Int.Sample(
            seed =>
            {
                var place = new Place(new(seed), good: false, goodBefore: false);
                for (var turns = 0; place.Swap.Step != SwapStep.Done; turns++)
                {
                    Assert.True(turns < 1000);
                    place.Step(resumed: false);
                    place.Pass();
                }

                Assert.Equal((1L, "it exited with code 1"), (place.Files, place.Swap.Down));
            },
            iter: 500
        );
}
