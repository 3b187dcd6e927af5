namespace CalmSentry.Linux.Processes;

/// <summary>The account ids of a process: whoever began it, whom it acts as, and whom it may become again (credentials(7)).</summary>
public readonly record struct ProcessUsers(uint Real, uint Effective, uint Saved)
{
    /// <summary>
    /// Whether it is theirs in every respect. A program with the set-user-ID bit that a stranger starts acts as its owner, and keeps the
    /// stranger's environment, and the stranger's real id.
    /// </summary>
    public bool AreAll(params ReadOnlySpan<uint> accounts) =>
        accounts.Contains(Real) && accounts.Contains(Effective) && accounts.Contains(Saved);
}
