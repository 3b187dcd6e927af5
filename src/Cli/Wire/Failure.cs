using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Wire;

/// <summary>Exit codes of every command.</summary>
internal static class Exit
{
    public const int True = 0,
        NotTrue = 1,
        Usage = 2,
        NotPermitted = 3,
        NoSuchThing = 4,
        Unreachable = 5;

    /// <summary>It was done, and cannot be put on record for now.</summary>
    public const int NotOnRecord = 6;

    /// <summary>The exit code an HTTP status stands for.</summary>
    public static int For(int status) =>
        status switch
        {
            400 => Usage,
            401 or 403 => NotPermitted,
            404 => NoSuchThing,
            _ => NotTrue,
        };
}

/// <summary>Something that ends a command: what was wrong, and what to do next.</summary>
internal sealed class Failure(int exit, string message, string? next = null, ProblemWord? code = null)
    : Exception(message)
{
    public int ExitCode => exit;

    public string? Next => next;

    /// <summary>The sentry's stable word for it, or null.</summary>
    public ProblemWord? Code => code;

    /// <summary>Each mistake of a definition, with its place; none: it is about something else.</summary>
    public IReadOnlyList<Mistake> Mistakes { get; init; } = [];

    /// <summary>Says it on standard error, and what to do next.</summary>
    public void Tell()
    {
        Console.Error.WriteLine($"calm: {Message.Replace("\n", "\n      ", StringComparison.Ordinal)}");
        if (Next is { } step)
            Console.Error.WriteLine($"    → {step.Replace("\n", "\n    → ", StringComparison.Ordinal)}");
    }
}
