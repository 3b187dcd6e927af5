namespace CalmSentry.Cli.Words;

/// <summary>A command line as it would be typed into a shell.</summary>
internal static class CommandLine
{
    public static string Of(IEnumerable<string> arguments) => string.Join(' ', arguments.Select(Quoted));

    private static string Quoted(string argument) =>
        argument.Length > 0 && argument.All(c => char.IsLetterOrDigit(c) || "-_./=:,@%+".Contains(c)) ? argument : $"'{argument.Replace("'", "'\\''")}'";
}
