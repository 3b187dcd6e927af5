using CalmSentry.Contract.Api;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;

namespace CalmSentry.Cli.Formatting;

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
            var head = finding.Accepted ? "accepted" : Words.Of(finding.Severity);
            var mark = color && finding is { Severity: Severity.Blocks, Accepted: false };
            to.WriteLine(
                $"{(mark ? Terminal.Red : "")}{head, -9}{(mark ? Terminal.Plain : "")} {Words.Of(finding.Code)}"
            );
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
