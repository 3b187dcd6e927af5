using System.Globalization;

namespace CalmSentry.Linux.Groups;

/// <summary>What a run's tree may use, as the kernel's controllers take it. Null: no ceiling.</summary>
/// <param name="Memory">Bytes.</param>
/// <param name="CpuPercent">Percent of one processor.</param>
/// <param name="Processors">A cpuset list.</param>
public readonly record struct Share(long? Memory, int? CpuPercent, int? Tasks, string? Processors)
{
    public bool IsAll => this == default;
}

/// <summary>
/// Ceilings by control group controllers (cgroups(7)): version 2 files in the run's own group where the host has its
/// controllers there, else version 1 groups, one a service and controller, which the run joins.
/// </summary>
public sealed class Ceilings
{
    private const int Period = 100_000; // microseconds: the kernel's own default

    private readonly string? unified;
    private readonly string mark;
    private readonly HashSet<string> unifiedControllers;
    private readonly Dictionary<string, string> legacy;

    private Ceilings(string? unified, string mark, HashSet<string> controllers, Dictionary<string, string> legacy) =>
        (this.unified, this.mark, unifiedControllers, this.legacy) = (unified, mark, controllers, legacy);

    public static Ceilings Find(ControlGroups groups)
    {
        var controllers = new HashSet<string>(StringComparer.Ordinal);
        if (groups.Directory is { } directory)
        {
            // A controller works in a group only when each group above hands it down.
            foreach (var wanted in new[] { "memory", "cpu", "pids", "cpuset" })
                if (HandDown(Path.GetDirectoryName(directory)!, wanted) && HandDown(directory, wanted))
                    controllers.Add(wanted);
        }

        var mounts = File.ReadLines("/proc/self/mounts")
            .Select(line => line.Split(' '))
            .Where(part => part is [_, _, "cgroup", ..])
            .ToList();
        var legacy = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var wanted in new[] { "memory", "cpu", "pids", "cpuset" })
            if (!controllers.Contains(wanted) && mounts.Find(part => part[3].Split(',').Contains(wanted)) is { } mount)
                legacy[wanted] = mount[1];
        return new(groups.Directory, groups.Mark, controllers, legacy);
    }

    /// <summary>Whether this host can hold a tree to a ceiling of that kind: memory, cpu, pids, cpuset.</summary>
    public bool Can(string controller) =>
        unifiedControllers.Contains(controller) || (legacy.TryGetValue(controller, out var mount) && CanMake(mount));

    /// <summary>Sets the ceilings of a service's next run. What is null is lifted.</summary>
    /// <param name="group">The run's own version 2 group, made when missing.</param>
    /// <returns>Version 1 groups to join, and the file that counts what the memory ceiling ended.</returns>
    /// <exception cref="IOException">The kernel refuses a value.</exception>
    public (IReadOnlyList<string> Join, string? OutOfMemory) Set(string service, string? group, Share share)
    {
        var join = new List<string>();
        string? outOfMemory = null;
        foreach (var (controller, files) in Files(share))
        {
            var inUnified = unifiedControllers.Contains(controller) && group is not null;
            if (files.Count == 0)
            {
                // No ceiling any more: the run does not join.
                if (!inUnified && legacy.ContainsKey(controller) && LegacyOf(controller, service) is var before)
                    Remove(before);
                continue;
            }

            if (!inUnified && !(legacy.TryGetValue(controller, out var mount) && CanMake(mount)))
                continue; // said beforehand by a finding
            var directory = inUnified ? group! : LegacyOf(controller, service);
            Directory.CreateDirectory(directory);
            if (controller == "cpuset" && !inUnified)
                InheritNodes(directory);
            foreach (var (version1, version2, value) in files)
            {
                if ((inUnified ? version2 : version1) is not { } name)
                    continue;
                var file = Path.Combine(directory, name);
                // Swap accounting is a kernel's choice: where it is off its file is missing, and there is nothing to
                // set.
                if (name is SwapLimit1 or SwapLimit2 && !File.Exists(file))
                    continue;
                Write(file, value);
            }

            if (!inUnified)
                join.Add(directory);
            if (controller == "memory")
                outOfMemory = Path.Combine(directory, inUnified ? "memory.events" : "memory.oom_control");
        }

        return (join, outOfMemory);
    }

    /// <summary>Version 1 groups that hold a service to its ceilings now: what runs for it joins them.</summary>
    public IReadOnlyList<string> Joins(string service) =>
        [.. legacy.Keys.Select(controller => LegacyOf(controller, service)).Where(Directory.Exists).Distinct()];

    /// <summary>
    /// How many processes the kernel has ended since the group was made because together they were above the ceiling for
    /// memory; 0 where it counts none (memory.events, and memory.oom_control of version 1: oom_kill).
    /// </summary>
    public long EndedForMemory(string service, string? group)
    {
        var file =
            unifiedControllers.Contains("memory") && group is not null ? Path.Combine(group, "memory.events")
            : legacy.ContainsKey("memory") ? Path.Combine(LegacyOf("memory", service), "memory.oom_control")
            : null;
        var line = (file is null ? "" : Read(file))
            .Split('\n')
            .FirstOrDefault(line => line.StartsWith("oom_kill ", StringComparison.Ordinal));
        return line is not null && long.TryParse(line[9..], CultureInfo.InvariantCulture, out var count) ? count : 0;
    }

    /// <summary>
    /// The ceilings in force for a process, by the kernel's word: controller and value, for those that have one.
    /// </summary>
    public IReadOnlyDictionary<string, string> InForce(string service, string? group, int pid)
    {
        var found = new Dictionary<string, string>(StringComparer.Ordinal);
        var paths = GroupsOf(pid);
        foreach (var controller in new[] { "memory", "cpu", "pids", "cpuset" })
        {
            var inUnified = unifiedControllers.Contains(controller) && group is not null;
            var directory =
                inUnified ? group!
                : legacy.ContainsKey(controller) ? LegacyOf(controller, service)
                : null;
            // What is shown must hold for this process: a group it is not in says nothing.
            if (directory is null || !paths.Contains(directory))
                continue;
            string Value(string version1, string version2) =>
                Read(Path.Combine(directory, inUnified ? version2 : version1));
            switch (controller)
            {
                case "memory"
                    when long.TryParse(Value("memory.limit_in_bytes", "memory.max"), out var bytes) && bytes < 1L << 60:
                    found["memory"] = bytes.ToString(CultureInfo.InvariantCulture);
                    break;
                case "pids" when int.TryParse(Value("pids.max", "pids.max"), out var tasks):
                    found["tasks"] = tasks.ToString(CultureInfo.InvariantCulture);
                    break;
                case "cpuset" when Value("cpuset.cpus", "cpuset.cpus") is { Length: > 0 } set:
                    found["processors"] = set;
                    break;
                case "cpu":
                    var quota = inUnified
                        ? Value("", "cpu.max").Split(' ')
                        : [Value("cpu.cfs_quota_us", ""), Value("cpu.cfs_period_us", "")];
                    if (
                        quota.Length == 2
                        && long.TryParse(quota[0], out var part)
                        && part > 0
                        && long.TryParse(quota[1], out var whole)
                    )
                        found["cpu"] = (part * 100 / whole).ToString(CultureInfo.InvariantCulture);
                    break;
            }
        }

        return found;
    }

    /// <summary>
    /// Most memory the tree has used at once since its group was made, in bytes; null where it was not counted.
    /// </summary>
    public long? PeakMemory(string service, string? group)
    {
        var file =
            unifiedControllers.Contains("memory") && group is not null ? Path.Combine(group, "memory.peak")
            : legacy.ContainsKey("memory") ? Path.Combine(LegacyOf("memory", service), "memory.max_usage_in_bytes")
            : null;
        return file is not null && long.TryParse(Read(file), out var bytes) ? bytes : null;
    }

    /// <summary>Removes a service's version 1 groups, if nothing lives in them.</summary>
    public void Forget(string service)
    {
        foreach (var controller in legacy.Keys)
            Remove(LegacyOf(controller, service));
    }

    /// <summary>Removes what this sentry made, as far as nothing lives in it.</summary>
    public void Remove()
    {
        foreach (var controller in legacy.Keys)
        {
            var own = Path.GetDirectoryName(LegacyOf(controller, "-"))!;
            if (!Directory.Exists(own))
                continue;
            foreach (var leaf in Directory.GetDirectories(own))
                Remove(leaf);
            Remove(own);
        }
    }

    private const string SwapLimit1 = "memory.memsw.limit_in_bytes",
        SwapLimit2 = "memory.swap.max";

    /// <summary>What is to be written, in order: a null name means that version has no such file.</summary>
    private static IEnumerable<(
        string Controller,
        List<(string? Version1, string? Version2, string Value)> Files
    )> Files(Share share)
    {
        static string Text(long number) => number.ToString(CultureInfo.InvariantCulture);
        // Version 1 counts memory and swap together, and that limit may never be under the one of memory alone: it is
        // lifted first.
        yield return (
            "memory",
            share.Memory is { } memory
                ?
                [
                    (SwapLimit1, null, "-1"),
                    ("memory.limit_in_bytes", "memory.max", Text(memory)),
                    (SwapLimit1, null, Text(memory)),
                    (null, SwapLimit2, "0"),
                ]
                : []
        );
        yield return (
            "cpu",
            share.CpuPercent is { } percent
                ?
                [
                    ("cpu.cfs_quota_us", null, Text((long)percent * Period / 100)),
                    (null, "cpu.max", $"{Text((long)percent * Period / 100)} {Period}"),
                ]
                : []
        );
        yield return ("pids", share.Tasks is { } tasks ? [("pids.max", "pids.max", Text(tasks))] : []);
        yield return ("cpuset", share.Processors is { } set ? [("cpuset.cpus", "cpuset.cpus", set)] : []);
    }

    private string LegacyOf(string controller, string service) =>
        Path.Combine(legacy[controller], $"calm-sentry-{mark}", service);

    /// <summary>
    /// A version 1 cpuset takes nobody before it has memory nodes and processors; each level is given its parent's.
    /// </summary>
    private static void InheritNodes(string directory)
    {
        var own = Path.GetDirectoryName(directory)!;
        foreach (var file in new[] { "cpuset.mems", "cpuset.cpus" })
        {
            Write(Path.Combine(own, file), Read(Path.Combine(Path.GetDirectoryName(own)!, file)));
            Write(Path.Combine(directory, file), Read(Path.Combine(own, file)));
        }
    }

    private static bool HandDown(string directory, string controller)
    {
        try
        {
            if (!Read(Path.Combine(directory, "cgroup.controllers")).Split(' ').Contains(controller))
                return false;
            if (Read(Path.Combine(directory, "cgroup.subtree_control")).Split(' ').Contains(controller))
                return true;
            Write(Path.Combine(directory, "cgroup.subtree_control"), $"+{controller}");
            return true;
        }
        catch (IOException)
        {
            return false;
        }
    }

    private bool CanMake(string mount)
    {
        try
        {
            Directory.CreateDirectory(Path.Combine(mount, $"calm-sentry-{mark}"));
            return true;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return false;
        }
    }

    private HashSet<string> GroupsOf(int pid)
    {
        var found = new HashSet<string>(StringComparer.Ordinal);
        foreach (var line in Read($"/proc/{pid}/cgroup").Split('\n'))
        {
            if (line.Split(':', 3) is not [_, var controllers, var path])
                continue;
            if (controllers.Length == 0 && unified is not null)
                found.Add(Path.GetDirectoryName(unified) + path);
            foreach (var controller in controllers.Split(','))
                if (legacy.TryGetValue(controller, out var mount))
                    found.Add(mount + path);
        }

        return found;
    }

    private static void Remove(string directory)
    {
        try
        {
            if (Directory.Exists(directory))
                Directory.Delete(directory);
        }
        catch (IOException)
        {
            // Something lives in it still.
        }
    }

    /// <summary>In one write, as the kernel wants it.</summary>
    private static void Write(string file, string value)
    {
        try
        {
            using var handle = File.OpenHandle(file, FileMode.Open, FileAccess.Write);
            RandomAccess.Write(handle, System.Text.Encoding.ASCII.GetBytes(value), 0);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            throw new IOException($"the kernel refuses '{value}' for {file}: {error.Message}", error);
        }
    }

    private static string Read(string file)
    {
        try
        {
            return File.ReadAllText(file).Trim();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return "";
        }
    }
}
