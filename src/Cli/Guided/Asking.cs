using CalmSentry.Cli.Formatting;

namespace CalmSentry.Cli.Guided;

/// <summary>
/// Questions on a terminal, a line each: the terminal's own editing works, and so does a screen reader.
/// </summary>
internal static class Asking
{
    /// <summary>As it comes: the console's own reader would switch the terminal's keypad over, and never back.</summary>
    private static readonly Lazy<StreamReader> Input = new(() =>
        new(new FileStream(new Microsoft.Win32.SafeHandles.SafeFileHandle(0, ownsHandle: false), FileAccess.Read, 1))
    );

    /// <summary>The answer that asks for the question before.</summary>
    public const string Back = "<";

    /// <summary>Whether that can be asked for.</summary>
    public static bool MayGoBack { get; set; }

    /// <summary>How many questions were answered.</summary>
    public static int Answered { get; private set; }

    /// <exception cref="Wire.Failure">The input ended: whoever was asked has left.</exception>
    /// <exception cref="BackException">The question before is asked for.</exception>
    public static string Line(string question, string? otherwise = null, bool needed = true)
    {
        while (true)
        {
            Console.Write(
                Folding.Prose(otherwise is { Length: > 0 } ? $"{question} [{otherwise}]" : question, Terminal.Width())
                    + " "
            );
            var answer = (
                Input.Value.ReadLine() ?? throw new Wire.Failure(Wire.Exit.NotTrue, "Left; nothing was registered.")
            ).Trim();
            if (answer == Back && MayGoBack)
                throw new BackException();
            Answered++;
            if (answer.Length > 0)
                return answer;
            if (otherwise is not null)
                return otherwise;
            if (!needed)
                return "";
            Tell("  An answer is needed here; Ctrl-C leaves without registering anything.");
        }
    }

    /// <summary>Prose, folded to the terminal's width.</summary>
    public static void Tell(string text) => Console.WriteLine(Folding.Prose(text, Terminal.Width()));

    public static bool YesNo(string question, bool otherwise)
    {
        while (true)
        {
            switch (Line($"{question} ({(otherwise ? "Y/n" : "y/N")})", "").ToLowerInvariant())
            {
                case "":
                    return otherwise;
                case "y" or "yes":
                    return true;
                case "n" or "no":
                    return false;
                default:
                    Console.WriteLine("  y or n.");
                    break;
            }
        }
    }

    /// <summary>One of several, by its number.</summary>
    public static int Choice(string question, IReadOnlyList<string> choices, int otherwise)
    {
        for (var i = 0; i < choices.Count; i++)
            Tell($"  {i + 1}  {choices[i]}");
        while (true)
        {
            if (
                int.TryParse(Line(question, $"{otherwise + 1}"), out var number)
                && number >= 1
                && number <= choices.Count
            )
                return number - 1;
            Console.WriteLine($"  1 to {choices.Count}.");
        }
    }
}

/// <summary>Whoever is asked wants to answer the question before anew.</summary>
internal sealed class BackException : Exception;
