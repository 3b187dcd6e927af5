using CalmSentry.Core.Telling;
using CalmSentry.Store;
using CalmSentry.Telling;

namespace CalmSentry.Tests.Engine.Simulation;

/// <summary>Somebody who is told: what arrived, whichever server sent it, and a way that does not always take it.</summary>
internal sealed class SimPeople(SimLoop loop) : ISender
{
    public static readonly Recipient Anna = new(new CommandWay(["/bin/true"])) { Name = "anna" };

    /// <summary>Ids of the messages that arrived.</summary>
    public HashSet<string> Arrived { get; } = new(StringComparer.Ordinal);

    /// <summary>Her way takes nothing.</summary>
    public bool Away { get; set; }

    public async Task<string> Send(StoredMessage one, Message message, Exchange? seen, CancellationToken cancellation)
    {
        await Task.Yield();
        if (Away || loop.Chance(0.05))
            throw new NotTakenException("it is closed");
        Arrived.Add(one.Id);
        return "it has it";
    }
}
