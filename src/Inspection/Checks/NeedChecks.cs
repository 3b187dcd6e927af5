using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Inspection.Checks;

/// <summary>Needs that can never be met, or not as they are meant.</summary>
internal static class NeedChecks
{
    public static IEnumerable<Finding> Look(Subject subject)
    {
        var definition = subject.Definition;
        var others = subject.Others.Select(other => other.Definition).ToList();
        if (NeedGraph.Circle(definition, others) is { } circle)
            yield return new(
                FindingCode.NeedsCircle,
                Severity.Blocks,
                $"Its needs close a circle: {InWords(circle)}.",
                "Each would wait for the other, and none could start.",
                "Take one of these needs out. This one cannot be accepted."
            );
        foreach (var name in definition.Begin.NeededServices.Where(name => name != definition.Name))
        {
            if (others.Find(other => other.Name == name) is not { } needed)
                yield return new(
                    FindingCode.NeedUnknown,
                    Severity.Risk,
                    $"It needs {name}, and there is no service of that name here.",
                    "It would wait for it until that need's limit.",
                    $"Wrap {name} too, or take the need out."
                );
            else if (needed.Begin.At == BeginAt.Never)
                yield return new(
                    FindingCode.NeedNeverBegins,
                    Severity.Risk,
                    $"It needs {name}, whose starting is disabled (begin.at: never).",
                    "It would wait for it until that need's limit.",
                    $"Enable it with 'calm adjust {name} --at request', or take the need out."
                );
            else if (definition.Begin.At == BeginAt.Boot && needed.Begin.At is BeginAt.Request)
                yield return new(
                    FindingCode.NeedNotAtBoot,
                    Severity.Note,
                    $"It starts with the machine and needs {name}, which does not.",
                    $"{name} is started with it, for it is needed.",
                    $"Say so, if you like: calm adjust {name} --at boot"
                );
        }

        if (
            definition.Begin.At is BeginAt.Boot or BeginAt.BootLate
            && definition is { Begin.Proof: UpForProof, Program.Kind: not ProgramKind.Toggles }
        )
            yield return new(
                FindingCode.NoProof,
                Severity.Note,
                "It starts with the machine, and nothing but staying up shows that it serves.",
                "What needs it may start before it serves.",
                $"Name a proof, such as: calm adjust {definition.Name} --proof tcp:127.0.0.1:PORT"
            );
    }

    /// <summary>A circle as people read it: <c>a needs b needs c needs a</c>.</summary>
    public static string InWords(IReadOnlyList<string> circle) => string.Join(" needs ", circle);
}
