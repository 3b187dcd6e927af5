using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;

namespace CalmSentry.Inspection.Checks;

/// <summary>People whom the definition wants told, and who would not be.</summary>
internal static class RecipientChecks
{
    public static IEnumerable<Finding> Look(Subject subject, RecipientSet recipients)
    {
        foreach (var who in recipients.Unheard(subject.Definition.Tell))
        {
            var isMail = MailAddress.IsOne(who);
            var near = isMail ? null : Spelling.Nearest(who, recipients.Set.Select(one => one.Name));
            yield return new(
                FindingCode.RecipientMissing,
                Severity.Blocks,
                isMail
                    ? $"{who} is to be told by mail, and the settings name no mail server."
                    : $"{who} is to be told, and is none of the recipients in the settings{(near is null ? "" : $" (did you mean {near}?)")}.",
                "Nobody would hear of it there when the service needs a person.",
                isMail
                    ? "Set one: 'mail: { server: HOST, from: ADDRESS }' in the settings; docs/being-told.md shows how"
                    : "'calm tell --recipients' lists those there are; or name a mail address"
            );
        }
    }
}
