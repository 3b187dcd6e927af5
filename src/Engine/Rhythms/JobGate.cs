using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Begin;

namespace CalmSentry.Engine.Rhythms;

/// <summary>No more jobs at once than the machine is to bear: what comes above that waits for its turn, in order.</summary>
internal sealed class JobGate(int most)
{
    private readonly Lock gate = new();
    private readonly Queue<ITakesTurns> queue = [];
    private readonly HashSet<ITakesTurns> at = [];

    /// <summary>So many may be at work at once from now on; none that is at work is stopped.</summary>
    public void Set(int atOnce)
    {
        lock (gate)
        {
            most = atOnce;
            Admit();
        }
    }

    public void Ask(ITakesTurns actor)
    {
        lock (gate)
        {
            queue.Enqueue(actor);
            Admit();
        }
    }

    /// <summary>It is at work without having asked: a person began it, or a server before this one.</summary>
    public void Count(ITakesTurns actor)
    {
        lock (gate)
            at.Add(actor);
    }

    public void Leave(ITakesTurns actor)
    {
        lock (gate)
            if (at.Remove(actor))
                Admit();
    }

    private void Admit()
    {
        while (at.Count < most && queue.TryDequeue(out var next))
        {
            // A stop may have come meanwhile.
            if (next.Situation.Awaited?.Step != AwaitStep.Turn)
                continue;
            at.Add(next);
            next.TakeTurn();
        }
    }
}
