using System.Text;

namespace CalmSentry.Cli.Formatting;

/// <summary>Long texts on a narrow terminal: broken at spaces, never in a word.</summary>
internal static class Folding
{
    /// <summary>Lines of prose, each as far in as it begins.</summary>
    public static string Prose(string text, int width) =>
        string.Join(
            '\n',
            text.Split('\n')
                .Select(line =>
                {
                    var rest = line.TrimStart(' ');
                    var indent = line[..^rest.Length];
                    return indent + string.Join($"\n{indent}", Lines(rest, Math.Max(20, width - indent.Length)));
                })
        );

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
}
