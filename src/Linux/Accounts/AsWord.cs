namespace CalmSentry.Linux.Accounts;

/// <summary>
/// What the keeper's <c>as … run</c> mode says on standard output before its program does: an exit code may be the program's own, and what
/// follows from it (a second try with the network) is not the program's to choose.
/// </summary>
public static class AsWord
{
    /// <summary>The program is begun: all that follows is its.</summary>
    public const byte Begun = (byte)'+';

    /// <summary>Behind it: it could not be executed.</summary>
    public const byte NotBegun = (byte)'-';
}
