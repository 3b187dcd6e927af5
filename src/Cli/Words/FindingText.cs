using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Words;

/// <summary>Findings for people: how bad, what was seen, why it matters, what to type.</summary>
internal static class FindingText
{
    public static void Write(IEnumerable<FindingView> findings, TextWriter to)
    {
        var color = ReferenceEquals(to, Console.Out) ? !Console.IsOutputRedirected : !Console.IsErrorRedirected;
        foreach (var finding in findings)
        {
            var head = finding.Accepted ? "accepted" : finding.Severity;
            var mark = color && finding is { Severity: "blocks", Accepted: false };
            to.WriteLine($"{(mark ? Terminal.Red : "")}{head, -9}{(mark ? Terminal.Plain : "")} {finding.Code}");
            Fold(to, finding.Seen, "          ", color);
            Fold(to, finding.Why, "          ", color);
            foreach (var line in finding.Mend.Split('\n'))
                Fold(to, line, "          → ", color);
        }
    }

    /// <summary>On a terminal broken at spaces to its width; in a pipe a line stays a line.</summary>
    private static void Fold(TextWriter to, string text, string head, bool terminal)
    {
        var width = terminal && Console.WindowWidth > 40 ? Console.WindowWidth : int.MaxValue;
        var line = new System.Text.StringBuilder(head);
        foreach (var word in text.Split(' '))
        {
            if (line.Length > head.Length && line.Length + 1 + word.Length > width)
            {
                to.WriteLine(line);
                line.Clear().Append(' ', head.Length);
            }

            if (line.Length > head.Length)
                line.Append(' ');
            line.Append(word);
        }

        to.WriteLine(line);
    }
}
