using System.Text.Json;

namespace CalmSentry.Contract.Api;

/// <summary>One line of a rehearsal's live answer (newline-delimited JSON).</summary>
public sealed record RehearsalEvent
{
    /// <summary>began | output | error | note | report; output and error are what the program printed.</summary>
    public required string Kind { get; init; }

    public string? Text { get; init; }

    /// <summary>Of began: by this name it can be ended.</summary>
    public string? Id { get; init; }

    public RehearsalReport? Report { get; init; }
}

/// <summary>What a rehearsal saw.</summary>
public sealed record RehearsalReport
{
    /// <summary>It was up until it was asked to end.</summary>
    public required bool StayedUp { get; init; }

    /// <summary>What came of it, in a sentence.</summary>
    public required string Said { get; init; }

    /// <summary>How long it was up before it ended or was asked to, in milliseconds.</summary>
    public required long UpMs { get; init; }

    /// <summary>It put itself into the background.</summary>
    public required bool Detached { get; init; }

    /// <summary>The last lines it printed on standard error.</summary>
    public required IReadOnlyList<string> Errors { get; init; }

    /// <summary>Sockets it waited on for clients.</summary>
    public required IReadOnlyList<PortView> Ports { get; init; }

    /// <summary>Files it wrote.</summary>
    public required IReadOnlyList<string> Files { get; init; }

    /// <summary>Most memory its whole tree used at once, in bytes.</summary>
    public required long PeakBytes { get; init; }

    /// <summary>Processor time of all its processes, in microseconds.</summary>
    public required long CpuUs { get; init; }

    /// <summary>Most processes it had at once beside its main one.</summary>
    public required int Children { get; init; }

    /// <summary>How it reacted to the stop, in a sentence; null when it had ended before.</summary>
    public string? Stop { get; init; }

    /// <summary>Titles of the dialogs that it opened on its display.</summary>
    public required IReadOnlyList<string> Dialogs { get; init; }

    /// <summary>What it showed last on its display, as a PNG in base64 (RFC 4648); null: it showed nothing.</summary>
    public byte[]? Picture { get; init; }

    public required IReadOnlyList<ProposalView> Proposals { get; init; }

    /// <summary>The proposals as a definition to lay over the present one.</summary>
    public JsonElement? Adoption { get; init; }

    /// <summary>The whole definition with the proposals, as a file.</summary>
    public required string File { get; init; }

    /// <summary>What it ran with; secrets by name only.</summary>
    public required SurroundingsView Surroundings { get; init; }
}

/// <param name="Protocol">tcp | udp</param>
/// <param name="Reach">this host | every network | one address</param>
public sealed record PortView(string Protocol, string Address, int Port, string Reach);

/// <param name="Key">Dotted key of the definition.</param>
/// <param name="Value">Null: nothing to be set yet, for a person to know.</param>
public sealed record ProposalView(string Key, string? Value, string Why);

public sealed record SurroundingsView
{
    public required string Account { get; init; }

    public required IReadOnlyList<string> Groups { get; init; }

    public required string Directory { get; init; }

    public required string Umask { get; init; }

    public required IReadOnlyDictionary<string, string> Environment { get; init; }
}
