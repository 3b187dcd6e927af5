using System.Text;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Definitions;

/// <summary>A command line as it would be typed into a shell.</summary>
public static class CommandLine
{
    public static string Of(IEnumerable<string> arguments) => string.Join(' ', arguments.Select(Quoted));

    /// <summary>
    /// To be read, not to be typed: the first of very many words, and how many more there are; what looks like a secret is masked.
    /// </summary>
    public static string Folded(IReadOnlyList<string> command)
    {
        const int mostWords = 40,
            mostCharacters = 2000;
        var shown = 0;
        for (var length = 0; shown < command.Count && shown < mostWords; shown++)
            if ((length += command[shown].Length + 1) > mostCharacters && shown > 0)
                break;
        var text = string.Join(
            ' ',
            SecretLooks.Masked([.. command.Take(shown)]).Select(Short).Select(Quoted).Select(Shown.Line)
        );
        return shown == command.Count ? text : $"{text} … and {command.Count - shown} more words (--json has them all)";

        static string Short(string word) => word.Length > mostCharacters ? word[..mostCharacters] + "…" : word;
    }

    /// <summary>
    /// A line taken apart as a POSIX shell would, quotes and backslashes only: nothing is expanded. A quote that is not closed goes to the
    /// end.
    /// </summary>
    public static string[] Words(string line) => Words(line, out _);

    /// <param name="open">The quote that is not closed; null: all are.</param>
    public static string[] Words(string line, out char? open)
    {
        open = null;
        var words = new List<string>();
        StringBuilder? word = null;
        for (var i = 0; i < line.Length; i++)
        {
            var c = line[i];
            if (c is ' ' or '\t')
            {
                if (word is not null)
                    words.Add(word.ToString());
                word = null;
                continue;
            }

            word ??= new();
            if (c is '\'' or '"')
            {
                var end = i + 1;
                while (end < line.Length && line[end] != c)
                {
                    if (
                        c == '"'
                        && line[end] == '\\'
                        && end + 1 < line.Length
                        && line[end + 1] is '"' or '\\' or '$' or '`'
                    )
                        end++;
                    word.Append(line[end++]);
                }

                if (end >= line.Length)
                    open = c;
                i = end;
            }
            else if (c == '\\' && i + 1 < line.Length)
            {
                word.Append(line[++i]);
            }
            else
            {
                word.Append(c);
            }
        }

        if (word is not null)
            words.Add(word.ToString());
        return [.. words];
    }

    /// <summary>
    /// A word as it is typed into a shell, to be read and typed: what cannot be typed, or would be taken for something else, stands as an escape ($'…').
    /// </summary>
    public static string Typed(string argument) =>
        argument.Any(Shown.IsOdd)
            ? $"$'{string.Concat(argument.Select(c => Shown.IsOdd(c) ? $"\\u{(int)c:x4}" : c is '\\' or '\'' ? $"\\{c}" : $"{c}"))}'"
            : Quoted(argument);

    /// <summary>A word as it is typed into a POSIX shell.</summary>
    public static string Quoted(string argument) =>
        argument.Length > 0
        && argument.All(c => char.IsLetterOrDigit(c) || "-_./=:,@%+".Contains(c, StringComparison.Ordinal))
            ? argument
            : $"'{argument.Replace("'", "'\\''", StringComparison.Ordinal)}'";
}
