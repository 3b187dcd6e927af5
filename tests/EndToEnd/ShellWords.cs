namespace CalmSentry.Tests.EndToEnd;

internal static class ShellWords
{
    /// <summary>As one word of a shell (POSIX 2.2.2): the root of every test has a space and a quote in its name.</summary>
    public static string Quoted(this string word) => $"'{word.Replace("'", "'\\''", StringComparison.Ordinal)}'";
}
