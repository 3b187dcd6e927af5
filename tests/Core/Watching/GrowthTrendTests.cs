using CalmSentry.Core.Watching;
using CsCheck;

namespace CalmSentry.Tests.Core.Watching;

/// <summary>Growth is judged by its trend: seen through noise and spikes, and not seen where there is none.</summary>
public class GrowthTrendTests
{
    private const double MiB = 1 << 20;

    private static readonly DateTimeOffset Start = DateTimeOffset.UnixEpoch;

    private static SampleWindow Samples(int count, Func<int, double> value)
    {
        var window = new SampleWindow();
        for (var i = 0; i < count; i++)
            window.Add(Start + TimeSpan.FromSeconds(10 * i), value(i));
        return window;
    }

    [Fact]
    public void A_steady_leak_is_foretold_to_the_ceiling_through_noise_and_spikes() =>
        Gen.Select(Gen.Int[10, 2000], Gen.Double[0.01, 5], Gen.Double[0, 1].Array[2000], Gen.Int[0, 9])
            .Sample(
                (count, perSecond, noise, spike) =>
                {
                    // Noise of up to half a step, and one sample in ten far off.
                    var window = Samples(
                        count,
                        i =>
                            (100 * MiB)
                            + (perSecond * MiB * 10 * i)
                            + (noise[i] * perSecond * MiB * 5)
                            + (i % 10 == spike && i > 0 && i % 30 == spike ? 50 * MiB : 0)
                    );
                    var trend = GrowthTrend.Of(window.Samples)!.Value;
                    Assert.InRange(trend.PerSecond / (perSecond * MiB), 0.9, 1.1);
                    var now = window.Samples[^1].Value;
                    var left = trend.Until(now, now + (perSecond * MiB * 3600));
                    if (count > 60)
                        Assert.InRange(left!.Value.TotalMinutes, 54, 67);
                }
            );

    [Fact]
    public void What_only_goes_up_and_down_is_never_said_to_reach_its_ceiling() =>
        Gen.Select(Gen.Int[GrowthTrend.Fewest, 1000], Gen.Double[0, 1].Array[1000])
            .Sample(
                (count, noise) =>
                    Assert.Null(
                        GrowthTrend
                            .Of(Samples(count, i => (100 + (40 * Math.Sin(i * 2.3)) + noise[i]) * MiB).Samples)!
                            .Value.Until(100 * MiB, 200 * MiB)
                    )
            );

    [Fact]
    public void What_stands_shrinks_or_is_hardly_known_is_not_foretold()
    {
        Assert.Null(GrowthTrend.Of(Samples(GrowthTrend.Fewest - 1, i => i * MiB).Samples));
        Assert.Null(GrowthTrend.Of(Samples(100, _ => 50 * MiB).Samples)!.Value.Until(50 * MiB, 100 * MiB));
        Assert.Null(GrowthTrend.Of(Samples(100, i => (500 - i) * MiB).Samples)!.Value.Until(400 * MiB, 900 * MiB));
    }

    [Fact]
    public void A_window_stays_within_its_room_and_spans_the_whole_run()
    {
        var window = Samples(100_000, i => i);
        Assert.InRange(window.Samples.Count, 32, 128);
        Assert.True(window.Samples[0].Value < 4000 && window.Samples[^1].Value > 95_000);
        Assert.Equal(window.Samples.OrderBy(sample => sample.At), window.Samples);
    }
}
