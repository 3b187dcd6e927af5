using static CalmSentry.Core.Definitions.KeyOf<CalmSentry.Core.Definitions.ResourcesPart>;

namespace CalmSentry.Core.Definitions;

/// <summary>The keys of <c>resources</c>.</summary>
public static class ResourcesKeys
{
    public static Form<PriorityClass> Class { get; } =
        Forms.Choice(
            ("idle", PriorityClass.Idle),
            ("below-normal", PriorityClass.BelowNormal),
            ("normal", PriorityClass.Normal),
            ("above-normal", PriorityClass.AboveNormal),
            ("high", PriorityClass.High)
        );

    internal static Shape<ResourcesPart> Shape { get; } =
        new(
            Value(
                "priority",
                Class,
                part => part.Priority,
                (part, priority) => part with { Priority = priority },
                "Its share of the processors when many want them (nice 19, 10, 0, -5, -10)."
            ) with
            {
                Default = "normal",
            },
            Value(
                "disk",
                Class,
                part => part.Disk,
                (part, disk) => part with { Disk = disk },
                "Its priority at the disks."
            ) with
            {
                Label = "Disk priority",
                Default = "normal: as its priority",
            },
            Value(
                "processors",
                Forms.Of(Processors.Allowed, Processors.Read, set => Processors.Write(set)) with
                {
                    Pattern = "^[0-9]+(-[0-9]+)?(,[0-9]+(-[0-9]+)?)*$",
                    Example = "0-1",
                },
                part => part.Processors.IsEmpty ? null : part.Processors,
                (part, processors) => part with { Processors = processors },
                "Processors it may run on."
            ) with
            {
                Default = "all",
            },
            Value(
                "memory",
                Forms.Size,
                part => part.Memory,
                (part, memory) => part with { Memory = memory },
                "Most memory of all its processes together; the kernel kills it above this."
            ) with
            {
                Default = "no limit",
            },
            Value(
                "cpu",
                Forms.Percent(1, 100_000, " of one processor"),
                part => part.Cpu,
                (part, cpu) => part with { Cpu = cpu },
                "Most processor time of all its processes together, in percent of one processor."
            ) with
            {
                Label = "Processor time",
                Default = "no limit",
                Example = "150 %",
            },
            Value(
                "open-files",
                Forms.Whole(16, 1_048_576),
                part => part.OpenFiles,
                (part, files) => part with { OpenFiles = files },
                "Most files and sockets each of its processes may have open, 16 to 1048576."
            ) with
            {
                Default = "the host's limit",
                Example = "4096",
            },
            Value(
                "tree-size",
                Forms.Whole(1, 4_194_304),
                part => part.TreeSize,
                (part, size) => part with { TreeSize = size },
                "Most processes and threads it may have, all its descendants together."
            ) with
            {
                Label = "Processes and threads",
                Default = "no limit",
                Example = "64",
                Was = "tasks",
            }
        );
}
