namespace CalmSentry.Contract.Api;

/// <summary>
/// What joins a service's terminal, once, within half a minute: <c>GET /api/terminal?ticket=…</c> as a WebSocket (RFC 6455). Binary
/// messages are what the program writes, and keys; texts are <see cref="TerminalNews"/> and <see cref="TerminalWish"/>.
/// </summary>
/// <param name="Types">Keys are taken, unless somebody else types.</param>
/// <param name="TypedBy">Who types there now; null: nobody does.</param>
/// <param name="Viewers">How many see it now.</param>
public sealed record TerminalTicket(
    string Ticket,
    DateTimeOffset Until,
    int Columns,
    int Rows,
    bool Types,
    string? TypedBy,
    int Viewers
);

/// <summary>What happens at a terminal beside what its program writes. Each has what it says of.</summary>
public sealed record TerminalNews
{
    /// <summary>
    /// What follows begins anew, on an empty screen: <see cref="Place"/>, <see cref="LeftOut"/>, <see cref="Columns"/>, <see
    /// cref="Rows"/>, <see cref="Run"/>. What is kept of before comes first, then <see cref="IsLive"/>.
    /// </summary>
    public const string Begins = "begins";

    /// <summary>Bytes from here on are as the program writes them, from <see cref="Place"/> on.</summary>
    public const string IsLive = "live";

    /// <summary>Another size: <see cref="Columns"/>, <see cref="Rows"/>.</summary>
    public const string Resized = "resized";

    /// <summary>Who is there: <see cref="YouType"/>, <see cref="TypedBy"/>, <see cref="Viewers"/>.</summary>
    public const string There = "there";

    /// <summary>There is nothing to see just now: <see cref="Why"/>. It begins with the next run.</summary>
    public const string Waits = "waits";

    /// <summary>begins, live, resized, there or waits.</summary>
    public required string Is { get; init; }

    /// <summary>Bytes that the program wrote in this run before what follows.</summary>
    public long? Place { get; init; }

    /// <summary>Bytes that this viewer did not get, for it was too slow, or away for too long; 0: none.</summary>
    public long? LeftOut { get; init; }

    public int? Columns { get; init; }

    public int? Rows { get; init; }

    public long? Run { get; init; }

    public bool? YouType { get; init; }

    public string? TypedBy { get; init; }

    public int? Viewers { get; init; }

    public string? Why { get; init; }
}

/// <summary>What a viewer wants.</summary>
public sealed record TerminalWish
{
    /// <summary>True: to type, and that nobody else does; false: only to see.</summary>
    public bool? Type { get; init; }

    /// <summary>The size of its own window, where it cannot show every size.</summary>
    public int? Columns { get; init; }

    public int? Rows { get; init; }

    /// <summary>
    /// The place up to which it has shown all of it. Whoever joined with <c>acknowledges=true</c> says so now and then, and is sent no
    /// more than a mebibyte beyond: a browser cannot be slow otherwise.
    /// </summary>
    public long? Seen { get; init; }
}
