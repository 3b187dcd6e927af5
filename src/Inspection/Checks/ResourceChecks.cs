using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Inspection.Checks;

/// <summary>Whether this host can hold the program to what is set.</summary>
internal static class ResourceChecks
{
    public static IEnumerable<Finding> Look(Subject subject)
    {
        var resources = subject.Definition.Resources;
        if (
            resources.Processors.Where(processor => processor >= Environment.ProcessorCount).ToList() is
            { Count: > 0 } missing
        )
            yield return new(
                FindingCode.ProcessorsMissing,
                Severity.Blocks,
                $"This machine has processors 0 to {Environment.ProcessorCount - 1}; there is no "
                    + $"{Processors.Write(missing)}.",
                "It could not be launched.",
                "Name processors there are with --processors, or leave it out."
            );
        if (resources.OpenFiles is { } files && (ulong)files > ProcessFacts.OpenFilesCeiling())
            yield return new(
                FindingCode.OpenFilesTooMany,
                Severity.Blocks,
                $"This sentry may itself have at most {ProcessFacts.OpenFilesCeiling()} files open and lacks the "
                    + $"right to raise that.",
                "It could not be launched with more.",
                "Set a lower --open-files, or run the sentry with a higher limit."
            );
        if (Account.OwnId != 0 && (resources.Priority is PriorityClass.AboveNormal or PriorityClass.High))
            yield return new(
                FindingCode.PriorityNotPossible,
                Severity.Blocks,
                "Only root may raise a priority, and this sentry is not root.",
                "It could not be launched.",
                "Leave --priority at normal or below, or run the sentry as root."
            );
    }

    public static IEnumerable<Finding> Advice(Subject subject)
    {
        var (resources, tools) = (subject.Definition.Resources, subject.Tools);
        foreach (
            var (set, controller, key) in new[]
            {
                (resources.Memory is not null, "memory", "memory"),
                (resources.Cpu is not null, "cpu", "cpu"),
                (resources.TreeSize is not null, "pids", "tasks"),
                (!resources.Processors.IsEmpty, "cpuset", "processors"),
            }
        )
        {
            if (set && !tools.Ceilings.Can(controller))
                yield return new(
                    FindingCode.LimitNotPossible,
                    Severity.Risk,
                    $"resources.{key} cannot be enforced here: this "
                        + $"{(Account.OwnId == 0 ? "host" : "sentry, not being root,")} has no control group "
                        + $"controller for it.",
                    key == "processors"
                        ? "It is bound to its processors at launch, but could unbind itself."
                        : "The program could use as much as it likes.",
                    "Run the sentry as root on a host with that controller, or leave the setting out."
                );
        }

        if (
            resources.Memory is { } memory
            && GC.GetGCMemoryInfo().TotalAvailableMemoryBytes is var there
            && memory > there
        )
            yield return new(
                FindingCode.MemoryOverMachine,
                Severity.Note,
                $"The memory limit of {Size.Write(memory)} is more than this machine has ({Size.About(there)}).",
                "It would never be reached.",
                "Set a lower --memory, or leave it out."
            );
        if (
            resources.Memory is { } ceiling
            && tools.Store.Rehearsal(subject.Definition.Name) is { } seen
            && ceiling < seen.PeakBytes
        )
            yield return new(
                FindingCode.MemoryUnderRehearsal,
                Severity.Risk,
                $"The memory limit of {Size.Write(ceiling)} is under what its rehearsal used, "
                    + $"{Size.About(seen.PeakBytes)}.",
                "The kernel would end it as soon as it works as it did then.",
                $"Set at least --memory '{Size.Write(((seen.PeakBytes * 3 / 2) >> 20) + 1 << 20)}', or rehearse again."
            );
    }
}
