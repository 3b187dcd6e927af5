using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;

namespace CalmSentry.Engine.Terminals;

/// <summary>
/// Who sees which terminal, and who of them types: one at a time, until it leaves or another takes that over. While somebody types whose
/// window shows no other size than its own, the terminal has that; else the size of its definition.
/// </summary>
internal sealed class TerminalRoom(Record logbook, Clocks clocks)
{
    private readonly Lock seating = new();
    private readonly Dictionary<ServiceId, List<Seat>> tables = [];

    /// <param name="types">It wants to type: it does, unless somebody else does.</param>
    public Seat Join(ServiceActor service, Principal who, bool types)
    {
        var seat = new Seat(this, service, who, clocks);
        lock (seating)
        {
            if (!tables.TryGetValue(service.Id, out var table))
                tables[service.Id] = table = [];
            seat.Types = types && !table.Exists(one => one.Types);
            table.Add(seat);
        }

        logbook.Note(service, new TerminalJoinedEntry(service.Situation.Run?.Number), who);
        Tell(service.Id);
        return seat;
    }

    /// <summary>It types from here on, and nobody else does.</summary>
    public void TakeOver(Seat seat)
    {
        lock (seating)
            foreach (var other in tables[seat.Service.Id])
                other.Types = other == seat;
        Tell(seat.Service.Id);
    }

    /// <summary>It only sees from here on.</summary>
    public void LetGo(Seat seat)
    {
        lock (seating)
            seat.Types = false;
        Tell(seat.Service.Id);
    }

    public void Resized(Seat seat, TerminalSize window)
    {
        lock (seating)
            seat.Window = window;
        Tell(seat.Service.Id);
    }

    /// <summary>Keys of it are about to be typed; who did is on record once.</summary>
    public void Typing(Seat seat)
    {
        seat.Service.TypedAt = clocks.Now;
        if (seat.HasTyped)
            return;
        seat.HasTyped = true;
        logbook.Note(seat.Service, new TerminalTypedEntry(seat.Service.Situation.Run?.Number), seat.Who);
    }

    public void Leave(Seat seat)
    {
        lock (seating)
        {
            tables[seat.Service.Id].Remove(seat);
            if (tables[seat.Service.Id].Count == 0)
                tables.Remove(seat.Service.Id);
            seat.Types = false;
        }

        logbook.Note(seat.Service, new TerminalLeftEntry(clocks.Forward - seat.Since, seat.HasTyped), seat.Who);
        Tell(seat.Service.Id);
    }

    /// <summary>Who types at the terminal of a service, how many see it, and the size that it is to have.</summary>
    public (string? Types, int Viewers, TerminalSize? Size) At(ServiceActor service)
    {
        lock (seating)
        {
            var table = tables.GetValueOrDefault(service.Id) ?? [];
            var typing = table.Find(one => one.Types);
            TerminalSize? size = service.Definition.Program.Screen is { } set ? new(set.Columns, set.Rows) : null;
            if (size is not null && typing?.Window is { } window)
                size = new(
                    Math.Clamp(window.Columns, TerminalSize.FewestColumns, TerminalSize.Most),
                    Math.Clamp(window.Rows, TerminalSize.FewestRows, TerminalSize.Most)
                );
            return (typing?.Who.Name, table.Count, size);
        }
    }

    private void Tell(ServiceId service)
    {
        lock (seating)
            foreach (var seat in tables.GetValueOrDefault(service) ?? [])
                seat.Changed.Ring();
    }
}

/// <summary>One viewer, from joining to leaving.</summary>
internal sealed class Seat(TerminalRoom room, ServiceActor service, Principal who, Clocks clocks) : IDisposable
{
    public ServiceActor Service => service;

    public Principal Who => who;

    public TimeSpan Since { get; } = clocks.Forward;

    /// <summary>What it types reaches the program.</summary>
    public bool Types { get; set; }

    public bool HasTyped { get; set; }

    /// <summary>Of its own window; null: it shows every size.</summary>
    public TerminalSize? Window { get; set; }

    /// <summary>Rings when somebody joined, left, or types.</summary>
    public Bell Changed { get; } = new(clocks);

    public void Dispose() => room.Leave(this);
}
