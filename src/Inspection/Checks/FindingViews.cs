using CalmSentry.Contract.Api;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;

namespace CalmSentry.Inspection.Checks;

/// <summary>Findings as the API tells them.</summary>
internal static class FindingViews
{
    public static IReadOnlyList<FindingView> Of(IEnumerable<Finding> findings, IReadOnlyCollection<string> accepted) =>
        [
            .. findings.Select(finding => new FindingView
            {
                Code = finding.Code,
                Key = finding.Key,
                Severity = finding.Severity,
                Seen = Shown.Line(finding.Seen),
                Why = Shown.Line(finding.Why),
                Mend = finding.Mend,
                OnlyNow = finding.OnlyNow,
                MayBeAccepted = finding.MayBeAccepted,
                Accepted = accepted.Contains(finding.Word),
            }),
        ];

    /// <summary>What is left that blocks.</summary>
    public static IReadOnlyList<Finding> Left(
        IEnumerable<Finding> findings,
        IReadOnlyCollection<string> accepted,
        bool forStart
    ) =>
        [
            .. findings.Where(finding =>
                finding.Severity == Severity.Blocks
                && (forStart || !finding.OnlyNow)
                && !accepted.Contains(finding.Word)
            ),
        ];
}
