using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Linux.Groups;

/// <summary>
/// Where this host's version 2 control groups are (cgroups(7)): the only hierarchy, or the one beside version 1 on
/// hybrid
/// hosts. Each sentry keeps a directory of its own there, so that several on one machine do not meet.
/// </summary>
public sealed class ControlGroups
{
    private ControlGroups(string mark, string? directory, string? whyNot) =>
        (Mark, Directory, WhyNot) = (mark, directory, whyNot);

    /// <summary>What tells this sentry's groups from those of others on the machine.</summary>
    public string Mark { get; }

    /// <summary>This sentry's directory, or null where there is none to be had.</summary>
    public string? Directory { get; }

    /// <summary>Why there is none, in words.</summary>
    public string? WhyNot { get; }

    /// <summary>Finds the hierarchy and makes the sentry's directory in it.</summary>
    /// <param name="owner">What makes this sentry's directory its own: the path of its run directory.</param>
    public static ControlGroups Find(string owner)
    {
        var mount = File.ReadLines("/proc/self/mounts")
            .Select(line => line.Split(' '))
            .FirstOrDefault(part => part is [_, _, "cgroup2", ..]);
        var mark = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(owner)))[..8];
        if (mount is null)
            return new(mark, null, "this host mounts no version 2 control groups");
        var directory = Path.Combine(mount[1], $"calm-sentry-{mark}");
        try
        {
            System.IO.Directory.CreateDirectory(directory);
            return new(mark, directory, null);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return new(mark, null, $"{directory} cannot be made: {error.Message}");
        }
    }

    public string? For(string service) => Directory is null ? null : Path.Combine(Directory, service);

    /// <summary>The processes in a group, its own ones only (cgroups(7), cgroup.procs).</summary>
    public static IEnumerable<int> Processes(string group)
    {
        const int most = 4 << 20; // of half a million processes
        var found = new List<int>();
        for (
            var left = ProcessFacts.ReadAll(Path.Combine(group, "cgroup.procs"), most).AsSpan();
            Utf8Parser.TryParse(left, out int pid, out var digits);
            left = left[Math.Min(left.Length, digits + 1)..]
        )
            found.Add(pid);
        return found;
    }

    /// <summary>
    /// Whether a process lives in it or below it (cgroups(7), cgroup.events). Whoever lets it go may remove it at any moment:
    /// then none does.
    /// </summary>
    public static bool IsPopulated(string group)
    {
        try
        {
            return File.ReadAllText(Path.Combine(group, "cgroup.events"))
                .Contains("populated 1", StringComparison.Ordinal);
        }
        catch (IOException)
        {
            return System.IO.Directory.Exists(group); // it cannot be read just now: nobody may take it for empty
        }
    }

    /// <summary>Kills every process in it and below it, in one stroke (cgroup.kill).</summary>
    /// <returns>False: there is no such group, or the kernel (before 5.14) cannot.</returns>
    public static bool KillAll(string group)
    {
        var kill = Path.Combine(group, "cgroup.kill");
        try
        {
            if (!File.Exists(kill))
                return false;
            File.WriteAllText(kill, "1");
            return true;
        }
        catch (IOException)
        {
            return false; // removed meanwhile
        }
    }

    /// <summary>
    /// Removes a group in which nothing lives any more, and those below it: of commands that were run for it, or that the
    /// program made. One that is still in use stays, and is found again by the next start.
    /// </summary>
    public static void RemoveTree(string group)
    {
        try
        {
            foreach (var below in System.IO.Directory.GetDirectories(group))
                RemoveTree(below);
            System.IO.Directory.Delete(group);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Still in use, or gone already.
        }
    }

    /// <summary>Ends and removes what commands of a server before this one have left; before any command is run.</summary>
    public void Sweep()
    {
        if (Directory is not null)
            CommandGroup.Sweep(Directory);
    }

    /// <summary>Removes the sentry's own directory, if nothing lives in it any more.</summary>
    public void Remove()
    {
        if (Directory is null)
            return;
        RemoveTree(Directory);
    }
}
