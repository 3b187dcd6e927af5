using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Keepers;

namespace CalmSentry.Server.Checks;

/// <summary>A copy of the program that somebody else has running already.</summary>
/// <param name="Same">With the same arguments too.</param>
internal sealed record Copy(int Pid, string User, DateTimeOffset Since, string From, bool Same)
{
    public override string ToString() =>
        $"pid {Pid}, as {User}, since {TimeZoneInfo.ConvertTime(Since, TimeZoneInfo.Local):yyyy-MM-dd HH:mm}, {From}";
}

/// <summary>Copies running outside this sentry, by executable and script as the kernel has them.</summary>
internal static class CopyChecks
{
    public static IEnumerable<Finding> Look(Subject subject, IReadOnlyList<ProcessLine> processes)
    {
        var copies = Find(subject.Definition.Program, subject.House.Places.RunDirectory, processes);
        var same = copies.Where(copy => copy.Same).ToList();
        var name = subject.Definition.Name;
        if (same.Count > 0)
        {
            yield return new(
                FindingCode.CopyRunning,
                Severity.Blocks,
                $"The same program runs already, outside the sentry: {string.Join("; ", same)}.",
                "Two copies at once write over each other or fight for a port.",
                $"End it where it was started; or let the sentry end it cleanly first: calm start {name} "
                    + $"--end-copies. If two are wanted: --accept copy-running.",
                OnlyNow: true
            );
        }

        if (copies.Where(copy => !copy.Same).ToList() is { Count: > 0 } others)
            yield return new(
                FindingCode.CopyWithOtherArguments,
                Severity.Risk,
                $"The program runs already with other arguments, outside the sentry: {string.Join("; ", others)}.",
                "If it is a forgotten copy, the two may write over each other.",
                "Look whether it is still needed, and end it if not.",
                OnlyNow: true
            );
    }

    public static IReadOnlyList<Copy> Find(
        ProgramPart program,
        string runDirectory,
        IReadOnlyList<ProcessLine> processes
    )
    {
        var path = Folders.Real(program.Path);
        // Of one of the host's own programs, such as a shell, only the arguments tell whether it is the same.
        var common =
            LaunchOrder.IsHostDirectory(Path.GetDirectoryName(path) ?? "/")
            || LaunchOrder.IsHostDirectory(Path.GetDirectoryName(program.Path) ?? "/");
        var found = new List<Copy>();
        var mark = Encoding.UTF8.GetBytes($"CALM_RUN={runDirectory}:");
        foreach (var process in processes)
        {
            var (pid, line, executable) = process;
            var executes = executable == path && program.With is null;
            var at = executes ? 0 : ScriptAt(line, pid, path, common);
            if (at < 0)
                continue;
            var same = line.Skip(at + 1).SequenceEqual(program.Arguments);
            if ((common && !same) || executable?.EndsWith("/calm", StringComparison.Ordinal) == true)
                continue;
            // Neither our own runs nor what our own checks run.
            if (process.Carries(mark) || ProcessFacts.Parent(pid) == Environment.ProcessId)
                continue;
            if (!process.StaysForeign(mark) || !ProcessFacts.Lives(pid))
                continue;
            found.Add(
                new(
                    pid,
                    Account.NameOf(ProcessFacts.EffectiveUser(pid) ?? 0),
                    ProcessFacts.Started(pid),
                    Origin(pid),
                    same
                )
            );
        }

        // A copy that forks is one copy: the topmost counts.
        return [.. found.Where(copy => !found.Exists(other => other.Pid == ProcessFacts.Parent(copy.Pid)))];
    }

    /// <summary>Where on a command line the script stands, its interpreter before it; -1 when it is another.</summary>
    private static int ScriptAt(IReadOnlyList<string> line, int pid, string script, bool common)
    {
        if (common)
            return -1;
        for (var i = 1; i < Math.Min(line.Count, 5); i++)
        {
            if (
                !line[i].EndsWith(Path.GetFileName(script), StringComparison.Ordinal)
                || line[i].Contains('\0', StringComparison.Ordinal)
            )
                continue;
            if (Folders.Real(Path.GetFullPath(line[i], ProcessFacts.WorkingDirectory(pid) ?? "/")) == script)
                return i;
        }

        return -1;
    }

    private static string Origin(int pid)
    {
        var schedules = new[] { "cron", "crond", "anacron", "atd", "fcron" };
        var logins = new[] { "sshd", "login", "sshd-session", "su", "sudo", "dropbear" };
        for (
            var (at, depth) = (ProcessFacts.Parent(pid), 0);
            at > 1 && depth < 32;
            at = ProcessFacts.Parent(at), depth++
        )
        {
            var name = ProcessFacts.Status(at, "Name") ?? "";
            if (schedules.Contains(name))
                return "from a scheduled table entry";
            if (logins.Contains(name) && ProcessFacts.Stat(pid, 7) == 0)
                return "from a login";
        }

        if (ProcessFacts.Terminal(pid) is { } terminal)
            return $"from the terminal {terminal}";
        return ProcessFacts.Parent(pid) == 1
            ? "from a boot script, or left behind by a login that has ended"
            : $"started by {ProcessFacts.Status(ProcessFacts.Parent(pid), "Name")} (pid {ProcessFacts.Parent(pid)})";
    }
}
