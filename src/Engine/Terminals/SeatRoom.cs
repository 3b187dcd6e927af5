using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;

namespace CalmSentry.Engine.Terminals;

/// <summary>
/// Who sees which service's terminal, or window, and who of them acts there: one at a time, until it leaves or another takes that over.
/// Who joined, acted and left is on record; never what.
/// </summary>
internal abstract class SeatRoom(Record logbook, Clocks clocks)
{
    private readonly Lock seating = new();
    private readonly Dictionary<ServiceId, List<Seat>> tables = [];

    protected Clocks Clocks => clocks;

    protected abstract Entry Joined(RunNumber? run);

    protected abstract Entry Acted(RunNumber? run);

    protected abstract Entry Left(TimeSpan took, bool hasActed);

    /// <param name="acts">It wants to act: it does, unless somebody else does.</param>
    public Seat Join(ServiceActor service, Principal who, bool acts)
    {
        var seat = new Seat(this, service, who, clocks);
        lock (seating)
        {
            if (!tables.TryGetValue(service.Id, out var table))
                tables[service.Id] = table = [];
            seat.Acts = acts && !table.Exists(one => one.Acts);
            table.Add(seat);
        }

        logbook.Note(service, Joined(service.Situation.Run?.Number), who);
        Tell(service.Id);
        return seat;
    }

    /// <summary>It acts from here on, and nobody else does.</summary>
    public void TakeOver(Seat seat)
    {
        lock (seating)
            foreach (var other in tables[seat.Service.Id])
                other.Acts = other == seat;
        Tell(seat.Service.Id);
    }

    /// <summary>It only sees from here on.</summary>
    public void LetGo(Seat seat)
    {
        lock (seating)
            seat.Acts = false;
        Tell(seat.Service.Id);
    }

    /// <summary>What it does is about to reach the program; who did is on record once.</summary>
    public virtual void Acting(Seat seat)
    {
        if (seat.HasActed)
            return;
        seat.HasActed = true;
        logbook.Note(seat.Service, Acted(seat.Service.Situation.Run?.Number), seat.Who);
    }

    public void Leave(Seat seat)
    {
        lock (seating)
        {
            tables[seat.Service.Id].Remove(seat);
            if (tables[seat.Service.Id].Count == 0)
                tables.Remove(seat.Service.Id);
            seat.Acts = false;
        }

        logbook.Note(seat.Service, Left(clocks.Forward - seat.Since, seat.HasActed), seat.Who);
        Tell(seat.Service.Id);
    }

    /// <summary>Who acts there, and how many see it.</summary>
    public (Seat? Acting, int Viewers) Of(ServiceActor service)
    {
        lock (seating)
        {
            var table = tables.GetValueOrDefault(service.Id) ?? [];
            return (table.Find(one => one.Acts), table.Count);
        }
    }

    protected void Tell(ServiceId service)
    {
        lock (seating)
            foreach (var seat in tables.GetValueOrDefault(service) ?? [])
                seat.Changed.Ring();
    }
}
