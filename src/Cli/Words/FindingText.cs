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
            to.WriteLine($"{(mark ? "\u001b[31m" : "")}{head,-9}{(mark ? "\u001b[0m" : "")} {finding.Code}");
            to.WriteLine($"          {finding.Seen}");
            to.WriteLine($"          {finding.Why}");
            foreach (var line in finding.Mend.Split('\n')) to.WriteLine($"          → {line}");
        }
    }
}
