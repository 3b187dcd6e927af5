using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;

namespace CalmSentry.Inspection.Checks;

/// <summary>Secrets that have no value yet, and values that should have been secrets.</summary>
internal static class SecretChecks
{
    public static IEnumerable<Finding> Missing(Subject subject)
    {
        var (definition, tools) = (subject.Definition, subject.Tools);
        foreach (var key in definition.Program.SecretKeys.Where(key => !tools.Secrets.Has(definition.Name, key)))
        {
            var isAtLaunch = definition.Program.Secrets.Any(secret => secret.Key == key);
            yield return new(
                FindingCode.SecretMissing,
                isAtLaunch ? Severity.Blocks : Severity.Risk,
                $"Its secret {key} has no value yet.",
                isAtLaunch ? "It could not be launched." : "The question that it answers would not be answered.",
                $"calm secret set {definition.Name} {key}",
                OnlyNow: true
            );
        }

        if (definition.Program.Secrets.Any(secret => secret.AsFile) && tools.SecretFiles.WhyNot is { } why)
            yield return new(
                FindingCode.SecretFileNotPossible,
                Severity.Blocks,
                $"Secrets cannot be given as files here: {why}.",
                "On a disk they would outlive the program.",
                "Give them as variables."
            );
    }

    public static IEnumerable<Finding> InPlain(Subject subject) =>
        SecretLooks
            .In(subject.Definition.Program)
            .Select(where => new Finding(
                FindingCode.SecretInPlain,
                Severity.Risk,
                $"{char.ToUpperInvariant(where[0])}{where[1..]} looks like a secret.",
                where.StartsWith("the variable ", StringComparison.Ordinal)
                    ? "It stands in the definition and in every copy of it."
                    : "It stands in the definition, in every copy of it, and in the process list for all to read.",
                where.StartsWith("the variable ", StringComparison.Ordinal)
                    ? $"Take it out of the environment and seal it: --secret {where[13..]}, then calm secret "
                        + $"set {subject.Definition.Name} {where[13..]}"
                    : "If the program can take it from a variable or a file, give it as a secret: --secret NAME "
                        + "or --secret NAME:file."
            ));
}
