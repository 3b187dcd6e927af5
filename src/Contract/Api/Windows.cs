namespace CalmSentry.Contract.Api;

/// <summary>
/// What joins a service's window, once, within half a minute: <c>GET /api/window?ticket=…</c> as a WebSocket (RFC 6455), whose binary
/// messages are the remote framebuffer protocol (RFC 6143).
/// </summary>
/// <param name="Acts">Pointer, keys and clipboard are taken, unless somebody else acts.</param>
/// <param name="ActedBy">Who acts there now; null: nobody does.</param>
/// <param name="Viewers">How many see it now.</param>
public sealed record WindowTicket(string Ticket, DateTimeOffset Until, bool Acts, string? ActedBy, int Viewers);
