using CalmSentry.Contract.Api;

namespace CalmSentry.Cli.Words;

/// <summary>Findings for people: how bad, what was seen, why it matters, what to type.</summary>
internal static class FindingText
{
    public static void Write(IEnumerable<FindingView> findings, TextWriter to)
    {
        var isError = !ReferenceEquals(to, Console.Out);
        var color = isError ? !Console.IsErrorRedirected : !Console.IsOutputRedirected;
        var width = Math.Max(40, Terminal.Width(isError));
        foreach (var finding in findings)
        {
            var head = finding.Accepted ? "accepted" : finding.Severity;
            var mark = color && finding is { Severity: "blocks", Accepted: false };
            to.WriteLine($"{(mark ? Terminal.Red : "")}{head, -9}{(mark ? Terminal.Plain : "")} {finding.Code}");
            Fold(to, finding.Seen, "          ", width);
            Fold(to, finding.Why, "          ", width);
            foreach (var line in finding.Mend.Split('\n'))
                Fold(to, line, "          → ", width);
        }
    }

    private static void Fold(TextWriter to, string text, string head, int width)
    {
        foreach (var line in Folding.Lines(text, width - head.Length))
        {
            to.WriteLine(head + line);
            head = new string(' ', head.Length);
        }
    }
}
