using CalmSentry.Core.Watching;
using CalmSentry.Engine.Background;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Watching;

/// <param name="At">By the wall clock, for people.</param>
/// <param name="Memory">Memory of the tree that is its own, in bytes.</param>
/// <param name="Cpu">Processor time since the look before, in percent of one processor; null at the first look.</param>
/// <param name="Tree">Its processes.</param>
/// <param name="Paused">Those of them that a signal has stopped.</param>
internal sealed record VitalSample(
    DateTimeOffset At,
    long Stamp,
    long Memory,
    long Ticks,
    double? Cpu,
    IReadOnlyList<int> Tree,
    IReadOnlyList<int> Paused
);

/// <summary>How the tree of one run does: its latest figures, and how its memory has gone.</summary>
internal sealed class Vitals(Func<IReadOnlyList<int>> tree, Clocks clocks)
{
    private static readonly TimeSpan ShortestForCpu = TimeSpan.FromMilliseconds(200);

    private readonly Lock only = new();
    private VitalSample? basis;

    private readonly SampleWindow memory = new();

    public VitalSample? Latest { get; private set; }

    /// <summary>Figures as fresh as that, and how its memory has grown over the run; no trend: too few were looked at.</summary>
    public (VitalSample Sample, GrowthTrend? Trend) Growth(TimeSpan fresh)
    {
        var sample = Look(fresh);
        lock (only)
        {
            memory.Add(DateTimeOffset.UnixEpoch + clocks.Time.GetElapsedTime(0, sample.Stamp), sample.Memory);
            return (sample, GrowthTrend.Of(memory.Samples));
        }
    }

    /// <summary>The latest figures if they are as fresh as that, else new ones.</summary>
    public VitalSample Look(TimeSpan fresh)
    {
        lock (only)
        {
            if (Latest is { } latest && clocks.Time.GetElapsedTime(latest.Stamp) < fresh)
                return latest;
            var pids = tree();
            var (bytes, ticks) = (0L, 0L);
            List<int> paused = [];
            foreach (var pid in pids)
            {
                if (ProcessVitals.Of(pid) is not { } one)
                    continue;
                bytes += one.OwnBytes;
                ticks += one.Ticks;
                if (one.State == 'T')
                    paused.Add(pid);
            }

            // What has just ended has no memory any more, and its end is told next: what was seen while it lived stays.
            if (bytes == 0 && Latest is { Memory: > 0 } alive)
                return alive;

            var stamp = clocks.Time.GetTimestamp();
            double? cpu = Latest?.Cpu;
            if (
                basis is { } before
                && clocks.Time.GetElapsedTime(before.Stamp, stamp) is var elapsed
                && elapsed >= ShortestForCpu
            )
                cpu = Math.Max(0, ticks - before.Ticks) * 100.0 / ProcessVitals.TicksPerSecond / elapsed.TotalSeconds;
            var now = new VitalSample(clocks.Now, stamp, bytes, ticks, cpu, pids, paused);
            if (basis is null || clocks.Time.GetElapsedTime(basis.Stamp, stamp) >= ShortestForCpu)
                basis = now;
            return Latest = now;
        }
    }
}
