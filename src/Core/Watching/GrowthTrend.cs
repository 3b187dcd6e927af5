namespace CalmSentry.Core.Watching;

/// <summary>How a measured value grows, judged by all pairs of samples rather than by its latest level.</summary>
/// <param name="PerSecond">Median slope of all pairs (Theil and Sen): one spike does not move it.</param>
/// <param name="Steadiness">Share of pairs that rose less the share that fell (Kendall's tau), from -1 to 1: 1 is
/// growth without a step back.</param>
public readonly record struct GrowthTrend(double PerSecond, double Steadiness)
{
    /// <summary>Fewer samples say nothing.</summary>
    public const int Fewest = 8;

    /// <summary>Growth that is less steady than this is taken for noise.</summary>
    public const double SteadyEnough = 0.8;

    /// <summary>At most so many samples are compared with each other; of more, every nth is.</summary>
    private const int Most = 64;

    /// <returns>Null when there are too few samples.</returns>
    public static GrowthTrend? Of(IReadOnlyList<(DateTimeOffset At, double Value)> samples)
    {
        if (samples.Count < Fewest)
            return null;
        var stride = (samples.Count + Most - 1) / Most;
        var taken = samples.Where((_, i) => (samples.Count - 1 - i) % stride == 0).ToList();
        var slopes = new List<double>();
        var tendency = 0;
        for (var i = 0; i < taken.Count; i++)
        {
            for (var j = i + 1; j < taken.Count; j++)
            {
                var seconds = (taken[j].At - taken[i].At).TotalSeconds;
                if (seconds <= 0)
                    continue;
                var rise = taken[j].Value - taken[i].Value;
                slopes.Add(rise / seconds);
                tendency += Math.Sign(rise);
            }
        }

        if (slopes.Count == 0)
            return null;
        slopes.Sort();
        var middle = slopes.Count / 2;
        var median = slopes.Count % 2 == 1 ? slopes[middle] : (slopes[middle - 1] + slopes[middle]) / 2;
        return new(median, (double)tendency / slopes.Count);
    }

    /// <summary>
    /// Time until <paramref name="ceiling"/> is reached at this rate; null when it is not growing steadily.
    /// </summary>
    public TimeSpan? Until(double now, double ceiling)
    {
        if (PerSecond <= 0 || Steadiness < SteadyEnough)
            return null;
        var seconds = Math.Max(0, ceiling - now) / PerSecond;
        return seconds > TimeSpan.FromDays(3650).TotalSeconds ? null : TimeSpan.FromSeconds(seconds);
    }
}

/// <summary>
/// Samples of one value over a run of any length in bounded room: when it is full, every second one goes and half as
/// many are taken from then on.
/// </summary>
public sealed class SampleWindow(int capacity = 128)
{
    private readonly List<(DateTimeOffset At, double Value)> samples = new(capacity);
    private int stride = 1,
        skipped;

    public IReadOnlyList<(DateTimeOffset At, double Value)> Samples => samples;

    public void Add(DateTimeOffset at, double value)
    {
        if (++skipped < stride)
            return;
        skipped = 0;
        if (samples.Count == capacity)
        {
            for (var i = 0; i < capacity / 2; i++)
                samples[i] = samples[(2 * i) + 1];
            samples.RemoveRange(capacity / 2, capacity - (capacity / 2));
            stride *= 2;
        }

        samples.Add((at, value));
    }
}
