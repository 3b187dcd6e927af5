namespace CalmSentry.Cli.Commands;

/// <summary>What was typed behind <c>calm</c>.</summary>
/// <param name="Own">The words meant for the client; null: every command is wanted with all its flags.</param>
/// <param name="Program">What stood behind <c>--</c>, untouched; null: there was none.</param>
internal sealed record Typed(string[]? Own, string[]? Program)
{
    /// <summary>
    /// Whether a command may be the one that was typed. The flags of the others are not made: a definition has so many
    /// that every command would start half as slow again.
    /// </summary>
    public bool Names(string command) =>
        // A shell that asks what may come next gives the whole line as one word.
        Own is null
        || Own.Any(word => word.Contains(command, StringComparison.Ordinal));
}
