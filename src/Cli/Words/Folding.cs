using System.Text;

namespace CalmSentry.Cli.Words;

/// <summary>Long texts on a narrow terminal: broken at spaces, never in a word.</summary>
internal static class Folding
{
    /// <summary>A text as lines of at most so many characters; a word that is longer stands alone on its line.</summary>
    public static IEnumerable<string> Lines(string text, int width)
    {
        var line = new StringBuilder();
        foreach (var word in text.Split(' '))
        {
            if (line.Length > 0 && line.Length + 1 + word.Length > width)
            {
                yield return line.ToString();
                line.Clear();
            }

            if (line.Length > 0)
                line.Append(' ');
            line.Append(word);
        }

        yield return line.ToString();
    }

    /// <summary>The first of very many words of a command, and how many more there are.</summary>
    public static string Command(IReadOnlyList<string> command)
    {
        const int mostWords = 40,
            mostCharacters = 2000;
        var shown = 0;
        for (var length = 0; shown < command.Count && shown < mostWords; shown++)
            if ((length += command[shown].Length + 1) > mostCharacters && shown > 0)
                break;
        var text = Core.Definitions.CommandLine.Of(command.Take(shown).Select(Short));
        return shown == command.Count ? text : $"{text} … and {command.Count - shown} more words (--json has them all)";

        static string Short(string word) => word.Length > mostCharacters ? word[..mostCharacters] + "…" : word;
    }
}
