using System.Collections.Concurrent;
using System.Security.Cryptography;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Server.Doors;

/// <summary>What a ticket joins.</summary>
internal enum TicketFor
{
    Terminal,
    Window,
}

/// <summary>Who may join what of which service: a browser cannot say by a header who it is when it opens a WebSocket.</summary>
/// <param name="Acts">It may act there, and not only see it.</param>
/// <param name="Session">The browser session that asked; null: it came over the socket.</param>
internal sealed record Ticket(
    TicketFor For,
    ServiceId Service,
    Caller Caller,
    bool Acts,
    string? Session,
    TimeSpan Until
)
{
    /// <summary>Whoever joins is who asked: the same account by the kernel's word, or the same browser session by its cookie.</summary>
    public bool IsItsOwner(HttpContext context, Sessions sessions) =>
        context.Features.Get<DoorWord>() is { Door: DoorKind.Api }
            ? Session is null && Caller.Known(context)?.Account == Caller.Account
            : Session is { } session && sessions.Of(context.Request)?.Id == session;

    /// <summary>The session that it was given in goes on; what came over the socket has none to end.</summary>
    public bool Holds(Sessions sessions) => Session is null || sessions.Open.Any(one => one.Id == Session);
}

/// <summary>Tickets: 256 random bits each, used once, within half a minute, by whoever asked for it.</summary>
internal sealed class Tickets(TimeProvider clock)
{
    public static readonly TimeSpan Life = TimeSpan.FromSeconds(30);

    private const int Most = 256;

    private readonly ConcurrentDictionary<string, Ticket> unused = new(StringComparer.Ordinal);

    private TimeSpan Now => clock.GetElapsedTime(0, clock.GetTimestamp());

    /// <returns>Null: as many as there may be wait to be used.</returns>
    public string? New(TicketFor what, ServiceId service, Caller caller, bool acts, string? session)
    {
        foreach (var old in unused.Where(one => one.Value.Until < Now))
            unused.TryRemove(old);
        if (unused.Count >= Most)
            return null;
        var key = Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32));
        unused[key] = new(what, service, caller, acts, session, Now + Life);
        return key;
    }

    /// <summary>Uses a ticket up; null: it was never given, was used, or is too old.</summary>
    public Ticket? Use(string? key, TicketFor what) =>
        key is { Length: 64 } && unused.TryRemove(key, out var ticket) && ticket.Until >= Now && ticket.For == what
            ? ticket
            : null;

    /// <summary>Whether there is such a ticket; it is not used by that.</summary>
    public bool Holds(string? key) =>
        key is { Length: 64 } && unused.TryGetValue(key, out var ticket) && ticket.Until >= Now;
}
