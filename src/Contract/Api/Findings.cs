using System.Text.Json;
using CalmSentry.Core.Findings;

namespace CalmSentry.Contract.Api;

/// <summary>One thing a check saw.</summary>
public sealed record FindingView
{
    /// <summary>By this it can be accepted.</summary>
    public required FindingCode Code { get; init; }

    /// <summary>The dotted key of a definition that it is about: <c>program.directory</c>.</summary>
    public required string Key { get; init; }

    public required Severity Severity { get; init; }

    /// <summary>What is so.</summary>
    public required string Seen { get; init; }

    /// <summary>Why it matters.</summary>
    public required string Why { get; init; }

    /// <summary>What to do or type.</summary>
    public required string Mend { get; init; }

    /// <summary>It is of this moment, not of the definition: it blocks a start, not the wrapping.</summary>
    public bool OnlyNow { get; init; }

    /// <summary>It blocks, and whoever looks at it may be offered to overrule it; false where nothing can be launched with it.</summary>
    public bool MayBeAccepted { get; init; }

    /// <summary>Somebody overruled it by its code.</summary>
    public bool Accepted { get; init; }
}

/// <summary>What a check came to.</summary>
public sealed record CheckView
{
    /// <summary>Nothing that blocks is left.</summary>
    public required bool Clear { get; init; }

    /// <summary>What it came to, in a sentence.</summary>
    public required string Said { get; init; }

    /// <summary>Those that block first.</summary>
    public required IReadOnlyList<FindingView> Findings { get; init; }

    /// <summary>Mistakes of the definition itself; when there are any, nothing else was looked at.</summary>
    public required IReadOnlyList<Mistake> Errors { get; init; }

    /// <summary>Every effective value, or null with errors.</summary>
    public JsonElement? Definition { get; init; }

    /// <summary>The program and its arguments as they would be executed.</summary>
    public IReadOnlyList<string>? Command { get; init; }

    /// <summary>Interpreters this machine has for the script, the one chosen first.</summary>
    public IReadOnlyList<InterpreterView>? Interpreters { get; init; }

    /// <summary>How to give the same again.</summary>
    public RepeatView? Repeat { get; init; }

    /// <summary>Of a definition that plans moments: the next of each rhythm.</summary>
    public IReadOnlyList<MomentsView>? Moments { get; init; }
}

/// <param name="Version">First line of what it says of itself, or null.</param>
/// <param name="Why">Why it is one to choose.</param>
public sealed record InterpreterView(string Path, string? Version, string Why, bool Chosen);

/// <param name="Command">Words of a command; null when only a file can say all of it.</param>
/// <param name="File">A definition file.</param>
public sealed record RepeatView(IReadOnlyList<string>? Command, string File);

/// <summary>What a path leads to.</summary>
public enum PathKind
{
    Directory,

    /// <summary>A file that the account may execute.</summary>
    Program,
    File,
}

/// <param name="Path">Absolute; a directory's ends with a slash.</param>
public sealed record PathView(string Path, PathKind Kind);

/// <summary>Paths that begin as somebody has typed, as an account sees them.</summary>
/// <param name="Paths">In order; at most 200.</param>
/// <param name="More">There are more than these.</param>
/// <param name="Trouble">Why there is none, in a sentence.</param>
public sealed record PathsView(IReadOnlyList<PathView> Paths, bool More, string? Trouble);

/// <summary>A service account.</summary>
public sealed record AccountView
{
    public required string Name { get; init; }

    public required long Uid { get; init; }

    /// <summary>It may run services.</summary>
    public required bool Permitted { get; init; }

    /// <summary>It was made by <c>calm account create</c>.</summary>
    public required bool Made { get; init; }

    /// <summary>Services that run as it.</summary>
    public required IReadOnlyList<string> Services { get; init; }
}

/// <summary>A service account with what it may do.</summary>
public sealed record AccountDetail
{
    public required AccountView Account { get; init; }

    public required IReadOnlyList<string> Groups { get; init; }

    public required string Home { get; init; }

    public required string Shell { get; init; }

    /// <summary>What it may do beyond running a program, in sentences.</summary>
    public required IReadOnlyList<string> May { get; init; }

    /// <summary>Folders it can write, the topmost of each tree.</summary>
    public required IReadOnlyList<string> Writes { get; init; }

    /// <summary>Rights it was given by <c>calm account grant</c>.</summary>
    public required IReadOnlyList<string> Granted { get; init; }
}

/// <summary>Whether a secret has a value; the value itself is never told.</summary>
/// <param name="Used">The service's definition asks for it.</param>
public sealed record SecretView(string Key, bool HasValue, bool Used);

/// <param name="Value">1 to 8192 bytes.</param>
public sealed record SecretValue(string Value);

/// <summary>A folder to grant or take.</summary>
/// <param name="Path">Absolute.</param>
/// <param name="Right">write | read</param>
public sealed record FolderRight(string Path, string? Right = null);

/// <summary>A value the kernel itself reports of a live run.</summary>
/// <param name="Key">Dotted key of the definition.</param>
/// <param name="Set">As defined; null: left to its default.</param>
/// <param name="Kernel">As the kernel has it.</param>
public sealed record InForceView(string Key, string? Set, string Kernel, bool Same);

/// <summary>One thing wrong in what was sent.</summary>
/// <param name="Where">The dotted key of a definition it is at, or the code of the finding it is.</param>
/// <param name="Allowed">What is allowed there; null where nothing is.</param>
/// <param name="Line">Its place in a file, counted from 1, where there is one.</param>
/// <param name="Nearest">The key that was probably meant.</param>
/// <param name="Text">All of it as one sentence.</param>
public sealed record Mistake(
    string Where,
    string Found,
    string? Allowed,
    int? Line,
    int? Column,
    string? Nearest,
    string Text
)
{
    /// <summary>Of several files the one it is in; null: there is one, or none.</summary>
    public string? File { get; init; }
}
