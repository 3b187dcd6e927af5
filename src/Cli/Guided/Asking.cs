using System.Text;

namespace CalmSentry.Cli.Guided;

/// <summary>Questions on a terminal, a line each: the terminal's own editing works, and so does a screen reader.</summary>
internal static class Asking
{
    /// <exception cref="Wire.Failure">The input ended: whoever was asked has left.</exception>
    public static string Line(string question, string? otherwise = null, bool needed = true)
    {
        while (true)
        {
            Console.Write(otherwise is { Length: > 0 } ? $"{question} [{otherwise}] " : $"{question} ");
            var answer = (Console.ReadLine() ?? throw new Wire.Failure(Wire.Exit.NotTrue, "Left; nothing was registered.")).Trim();
            if (answer.Length > 0) return answer;
            if (otherwise is not null) return otherwise;
            if (!needed) return "";
            Console.WriteLine("  An answer is needed here; Ctrl-C leaves without registering anything.");
        }
    }

    public static bool YesNo(string question, bool otherwise)
    {
        while (true)
        {
            switch (Line($"{question} ({(otherwise ? "Y/n" : "y/N")})", "").ToLowerInvariant())
            {
                case "": return otherwise;
                case "y" or "yes": return true;
                case "n" or "no": return false;
                default: Console.WriteLine("  y or n."); break;
            }
        }
    }

    /// <summary>One of several, by its number.</summary>
    public static int Choice(string question, IReadOnlyList<string> choices, int otherwise)
    {
        for (var i = 0; i < choices.Count; i++) Console.WriteLine($"  {i + 1}  {choices[i]}");
        while (true)
        {
            if (int.TryParse(Line(question, $"{otherwise + 1}"), out var number) && number >= 1 && number <= choices.Count) return number - 1;
            Console.WriteLine($"  1 to {choices.Count}.");
        }
    }

    /// <summary>A line taken apart as a POSIX shell would, quotes and backslashes only: nothing is expanded.</summary>
    public static string[] Words(string line)
    {
        var words = new List<string>();
        StringBuilder? word = null;
        for (var i = 0; i < line.Length; i++)
        {
            var c = line[i];
            if (c is ' ' or '\t')
            {
                if (word is not null) words.Add(word.ToString());
                word = null;
                continue;
            }

            word ??= new();
            if (c is '\'' or '"')
            {
                var end = i + 1;
                while (end < line.Length && line[end] != c)
                {
                    if (c == '"' && line[end] == '\\' && end + 1 < line.Length && line[end + 1] is '"' or '\\' or '$' or '`') end++;
                    word.Append(line[end++]);
                }

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

        if (word is not null) words.Add(word.ToString());
        return [.. words];
    }
}
