using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Background;
using CalmSentry.Engine.Logbook;
using CalmSentry.Engine.Services;

namespace CalmSentry.Engine.Terminals;

/// <summary>
/// Those at terminals. While somebody types whose window shows no other size than its own, the terminal has that; else the size of its
/// definition.
/// </summary>
internal sealed class TerminalRoom(Record logbook, Clocks clocks) : SeatRoom(logbook, clocks)
{
    protected override Entry Joined(RunNumber? run) => new TerminalJoinedEntry(run);

    protected override Entry Acted(RunNumber? run) => new TerminalTypedEntry(run);

    protected override Entry Left(TimeSpan took, bool hasActed) => new TerminalLeftEntry(took, hasActed);

    public void Resized(Seat seat, TerminalSize window)
    {
        seat.Window = window;
        Tell(seat.Service.Id);
    }

    public override void Acting(Seat seat)
    {
        seat.Service.TypedAt = Clocks.Now;
        base.Acting(seat);
    }

    /// <summary>Who types at the terminal of a service, how many see it, and the size that it is to have.</summary>
    public (string? Types, int Viewers, TerminalSize? Size) At(ServiceActor service)
    {
        var (typing, viewers) = Of(service);
        TerminalSize? size = service.Definition.Program.Screen is { } set ? new(set.Columns, set.Rows) : null;
        if (size is not null && typing?.Window is { } window)
            size = new(
                Math.Clamp(window.Columns, TerminalSize.FewestColumns, TerminalSize.Most),
                Math.Clamp(window.Rows, TerminalSize.FewestRows, TerminalSize.Most)
            );
        return (typing?.Who.Name, viewers, size);
    }
}

/// <summary>Those at windows.</summary>
internal sealed class WindowRoom(Record logbook, Clocks clocks) : SeatRoom(logbook, clocks)
{
    protected override Entry Joined(RunNumber? run) => new WindowJoinedEntry(run);

    protected override Entry Acted(RunNumber? run) => new WindowActedEntry(run);

    protected override Entry Left(TimeSpan took, bool hasActed) => new WindowLeftEntry(took, hasActed);
}

/// <summary>One viewer, from joining to leaving.</summary>
internal sealed class Seat(SeatRoom room, ServiceActor service, Principal who, Clocks clocks) : IDisposable
{
    public ServiceActor Service => service;

    public Principal Who => who;

    public TimeSpan Since { get; } = clocks.Forward;

    /// <summary>What it does reaches the program.</summary>
    public bool Acts { get; set; }

    public bool HasActed { get; set; }

    /// <summary>Of its own window; null: it shows every size.</summary>
    public TerminalSize? Window { get; set; }

    /// <summary>Rings when somebody joined, left, or acts.</summary>
    public Bell Changed { get; } = new(clocks);

    public void Dispose() => room.Leave(this);
}
