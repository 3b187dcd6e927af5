using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;

namespace CalmSentry.Inspection.Checks;

/// <summary>Other services this one could be confused with.</summary>
internal static class NameChecks
{
    public static IEnumerable<Finding> Look(Subject subject)
    {
        var definition = subject.Definition;
        foreach (var other in subject.Others)
        {
            if (string.Equals(other.Definition.Title, definition.Title, StringComparison.OrdinalIgnoreCase))
                yield return new(
                    FindingCode.TitleTaken,
                    Severity.Risk,
                    $"The service {other.Definition.Name} has the title '{other.Definition.Title}' too.",
                    "By its title neither could be found any more.",
                    "Give it a title of its own with --title."
                );
            if (
                LaunchOrder.CommandOf(other.Definition.Program).SequenceEqual(LaunchOrder.CommandOf(definition.Program))
                && other.Definition.Program.Environment.SequenceEqual(definition.Program.Environment)
                && LaunchOrder.DirectoryOf(other.Definition, subject.Tools.Places)
                    == LaunchOrder.DirectoryOf(definition, subject.Tools.Places)
            )
                yield return new(
                    FindingCode.SameProgram,
                    Severity.Risk,
                    $"The service {other.Definition.Name} wraps the same program with the same arguments.",
                    "Two copies at once write over each other or fight for a port.",
                    $"Unwrap one of the two, or give them different arguments; 'calm show "
                        + $"{other.Definition.Name}' shows the other."
                );
        }
    }
}
