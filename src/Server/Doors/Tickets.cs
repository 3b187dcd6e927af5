using System.Collections.Concurrent;
using System.Security.Cryptography;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Server.Doors;

/// <summary>Who may join which terminal: a browser cannot say by a header who it is when it opens a WebSocket.</summary>
/// <param name="Session">The browser session that asked; null: it came over the socket.</param>
internal sealed record Ticket(ServiceId Service, Caller Caller, bool Types, string? Session, TimeSpan Until);

/// <summary>Tickets: 256 random bits each, used once, within half a minute, by whoever asked for it.</summary>
internal sealed class Tickets(TimeProvider clock)
{
    public static readonly TimeSpan Life = TimeSpan.FromSeconds(30);

    private const int Most = 256;

    private readonly ConcurrentDictionary<string, Ticket> unused = new(StringComparer.Ordinal);

    private TimeSpan Now => clock.GetElapsedTime(0, clock.GetTimestamp());

    /// <returns>Null: as many as there may be wait to be used.</returns>
    public string? New(ServiceId service, Caller caller, bool types, string? session)
    {
        foreach (var old in unused.Where(one => one.Value.Until < Now))
            unused.TryRemove(old);
        if (unused.Count >= Most)
            return null;
        var key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        unused[key] = new(service, caller, types, session, Now + Life);
        return key;
    }

    /// <summary>Uses a ticket up; null: it was never given, was used, or is too old.</summary>
    public Ticket? Use(string? key) =>
        key is { Length: 64 } && unused.TryRemove(key, out var ticket) && ticket.Until >= Now ? ticket : null;

    /// <summary>Whether there is such a ticket; it is not used by that.</summary>
    public bool Holds(string? key) =>
        key is { Length: 64 } && unused.TryGetValue(key, out var ticket) && ticket.Until >= Now;
}
