using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Watching;

namespace CalmSentry.Engine.Rhythms;

/// <summary>
/// Tells each service when, by people's clock, a planned moment of it may have come. That clock may be set: a wait is never
/// longer than a beat, so that a moment that has come all at once is seen within one.
/// </summary>
internal sealed class Calendar : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(10),
        // So long before its moment a job's keeper begins: many at one moment take their time.
        Ahead = TimeSpan.FromSeconds(3);

    private readonly Lock gate = new();
    private readonly PriorityQueue<IWatched, DateTimeOffset> queue = new();
    private readonly Dictionary<IWatched, DateTimeOffset> due = [];
    private readonly IRunHost host;
    private readonly Clocks clocks;
    private readonly ITimer timer;
    private bool begun;
    private int expected;

    public Calendar(IRunHost host, Clocks clocks)
    {
        (this.host, this.clocks) = (host, clocks);
        timer = clocks.Moments(Look);
    }

    /// <param name="at">When the service is to look; null: never.</param>
    public void Set(IWatched actor, DateTimeOffset? at)
    {
        lock (gate)
        {
            if (at is not { } moment)
            {
                due.Remove(actor);
                return;
            }

            if (due.TryGetValue(actor, out var before) && before == moment)
                return;
            due[actor] = moment;
            var first = !queue.TryPeek(out _, out var earliest) || moment < earliest;
            queue.Enqueue(actor, moment);
            if (first)
                Arm();
        }
    }

    /// <summary>It is known of each service what became of it while no server watched: from now on they are told.</summary>
    public void Begin()
    {
        lock (gate)
        {
            begun = true;
            Arm();
        }
    }

    public void Dispose() => timer.Dispose();

    private void Look()
    {
        lock (gate)
        {
            var now = clocks.Now;
            if (host.IsZoneAnother())
                foreach (var actor in due.Keys)
                    _ = actor.Ask(new ZoneSet());
            while (queue.TryPeek(out var actor, out var at) && (at <= now || !IsDue(actor, at)))
            {
                queue.Dequeue();
                if (!IsDue(actor, at))
                    continue; // it waits for another moment by now, or for none
                // Asked again at the next beat, unless it then waits for another moment: it may have had no use for this one.
                due[actor] = now + Beat;
                queue.Enqueue(actor, now + Beat);
                _ = actor.Ask(new CalendarCame(host.IsClockSet));
            }

            Expect(now + Ahead);
            Arm();
        }
    }

    private void Expect(DateTimeOffset until)
    {
        var before = expected;
        expected = due.Count(one => one.Value <= until && NeedsKeeper(one.Key));
        if (expected != before || expected > 0)
            host.Expect(expected);
    }

    /// <summary>A job between its runs keeps no keeper.</summary>
    private static bool NeedsKeeper(IWatched actor) => actor is { Definition.IsJob: true, Situation.Run: null };

    private bool IsDue(IWatched actor, DateTimeOffset at) => due.TryGetValue(actor, out var waits) && waits == at;

    private void Arm()
    {
        if (!begun || !queue.TryPeek(out var first, out var at))
            return;
        var left = at - clocks.Now;
        if (left > Ahead && NeedsKeeper(first))
            left -= Ahead;
        timer.Change(
            left <= TimeSpan.Zero ? TimeSpan.Zero
                : left < Beat ? left
                : Beat,
            Timeout.InfiniteTimeSpan
        );
    }
}
