using CalmSentry.Core.Findings;
using CalmSentry.Engine.Output;

namespace CalmSentry.Inspection.Checks;

/// <summary>Whether the directory that a definition names can take a service's output.</summary>
internal static class OutputChecks
{
    public static IEnumerable<Finding> Look(Subject subject)
    {
        if (subject.Definition.Output.Directory is not { } wanted)
            yield break;
        var name = subject.Self?.Definition.Name ?? subject.Definition.Name;
        var other = subject.Others.FirstOrDefault(other => other.Definition.Output.Directory == wanted);
        var why =
            other is not null ? $"the output of {other.Definition.Name} goes there"
            : subject.Tools.WhyHosts(wanted) is { } hosts ? $"it is not a service's to take: {hosts}"
            : subject.Definition.Files.Directory is { } files
            && $"{wanted}/".StartsWith($"{files.TrimEnd('/')}/", StringComparison.Ordinal)
                ? "it lies among its program's files, which are exchanged as a whole"
            : new OutputPlace(subject.Tools.Places, name).WhyNot(wanted);
        if (why is not null)
            yield return new(
                FindingCode.OutputDirectoryNotPossible,
                Severity.Blocks,
                $"Its output cannot be kept in {wanted}: {why}.",
                "The sentry writes there as root: nobody else may be able to lead it elsewhere, and what it finds is not overwritten.",
                "Name an empty directory, or one that is not there yet, in a folder of root's that is there: --output-directory."
            );
    }
}
