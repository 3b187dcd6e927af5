using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Engine.Begin;

/// <summary>
/// As wide as the machine bears: of what begins with the machine so many are launched at once that its processors are
/// busy,
/// and more as long as they are not. What begins late goes one after the other, a few at a time.
/// </summary>
internal sealed class StartGate(IRunHost host, Clocks clocks) : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(50);
    private static readonly int Processors = Environment.ProcessorCount;

    private readonly Lock gate = new();
    private readonly Queue<ITakesTurns> queue = [],
        lateQueue = [];
    private readonly HashSet<ITakesTurns> begun = [],
        lateBegun = [];
    private ITimer? timer;
    private (long All, long Idle) before;

    public void Ask(ITakesTurns actor)
    {
        lock (gate)
        {
            var waiting = queue.Count + lateQueue.Count > 0;
            (actor.Definition.Begin.At == BeginAt.BootLate ? lateQueue : queue).Enqueue(actor);
            Admit(16 * Processors, Processors);
            if (waiting || queue.Count + lateQueue.Count == 0)
                return;
            before = host.ProcessorTime();
            timer ??= clocks.Time.CreateTimer(_ => Look(), null, Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
            timer.Change(Beat, Beat);
        }
    }

    /// <summary>It has been proven, or will not be: it takes nobody's place any more.</summary>
    public void Leave(ITakesTurns actor)
    {
        lock (gate)
            if (begun.Remove(actor) | lateBegun.Remove(actor))
                Admit(16 * Processors, Processors);
    }

    public void Dispose() => timer?.Dispose();

    private void Look()
    {
        lock (gate)
        {
            var now = host.ProcessorTime();
            var (all, idle) = (now.All - before.All, now.Idle - before.Idle);
            before = now;
            // Those begun are still at work on their start, yet the processors have time to spare.
            if (idle * 5 > all)
                Admit(begun.Count + (8 * Processors), lateBegun.Count + 1);
            if (queue.Count + lateQueue.Count == 0)
                timer!.Change(Timeout.InfiniteTimeSpan, Timeout.InfiniteTimeSpan);
        }
    }

    private void Admit(int most, int mostLate)
    {
        Admit(queue, begun, most);
        Admit(lateQueue, lateBegun, mostLate);
    }

    private static void Admit(Queue<ITakesTurns> from, HashSet<ITakesTurns> to, int most)
    {
        while (to.Count < most && from.TryDequeue(out var next))
        {
            // A stop may have come meanwhile.
            if (next.Situation.Awaited?.Step != AwaitStep.Turn)
                continue;
            to.Add(next);
            next.TakeTurn();
        }
    }
}
