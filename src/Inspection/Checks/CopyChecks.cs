using System.Text;
using CalmSentry.Contract;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Rhythms;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Checks;

/// <summary>A copy of the program that somebody else has running already.</summary>
/// <param name="Same">It does the same: by its arguments, its directory, or what it holds.</param>
/// <param name="Blocks">
/// Two at once would be in each other's way, and whoever began it may have a say: root, the service's own account, or whoever holds the
/// service's port or lock. Any other is only named.
/// </param>
internal sealed record Copy(int Pid, string User, DateTimeOffset Since, string From, bool Same, bool Blocks)
{
    public override string ToString() =>
        $"pid {Pid}, as {User}, since {WallClock.In(Since, TimeZoneInfo.Local):yyyy-MM-dd HH:mm}, {From}";
}

/// <summary>Copies running outside this sentry, by executable, script, directory and what they hold, as the kernel has them.</summary>
internal static class CopyChecks
{
    public static IEnumerable<Finding> Look(Subject subject, IReadOnlyList<ProcessLine> processes)
    {
        var copies = Find(
            subject.Definition,
            subject.Tools.Store,
            subject.Tools.Places,
            processes,
            () => subject.Host.Sockets
        );
        var name = subject.Definition.Name;
        if (copies.Where(copy => copy.Blocks).ToList() is { Count: > 0 } blocking)
            yield return new(
                FindingCode.CopyRunning,
                Severity.Blocks,
                $"The same program runs already, outside the sentry: {string.Join("; ", blocking)}.",
                "Two copies at once write over each other or fight for a port.",
                $"End it where it was started; or let the sentry end it cleanly first: calm start {name} "
                    + $"--end-copies. If two are wanted: --accept copy-running.",
                OnlyNow: true
            );
        if (copies.Where(copy => copy is { Same: true, Blocks: false }).ToList() is { Count: > 0 } named)
            yield return new(
                FindingCode.CopyOfAnother,
                Severity.Note,
                $"The same program runs outside the sentry, in nobody's way: {string.Join("; ", named)}.",
                "It is another account's, or one of the host's own tools, and holds neither a port nor a lock of this service.",
                "Nothing needs to be done.",
                OnlyNow: true
            );
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
        Definition definition,
        SentryStore store,
        Places places,
        IReadOnlyList<ProcessLine> processes,
        Func<IReadOnlyList<Listening>> sockets
    )
    {
        var program = definition.Program;
        var path = Folders.Real(program.Path);
        // Of one of the host's own programs, such as a shell, neither program nor account tells whether it is the same.
        var common =
            HostPlaces.HoldsPrograms(Path.GetDirectoryName(path) ?? "/")
            || HostPlaces.HoldsPrograms(Path.GetDirectoryName(program.Path) ?? "/");
        var directory = Folders.Real(LaunchOrder.DirectoryOf(definition, places));
        var account = Account.Named(definition.Account)?.Uid;
        var ports = SocketsOn(definition, store, sockets);
        var found = new List<Copy>();
        var mark = Encoding.UTF8.GetBytes($"CALM_RUN={places.RunDirectory}:");
        foreach (var process in processes)
        {
            var (pid, line, executable) = process;
            var executes = executable == path && program.With is null;
            var at = executes ? 0 : ScriptAt(line, process, path, common);
            if (at < 0 || executable?.EndsWith("/calm", StringComparison.Ordinal) == true)
                continue;
            // Not our own runs; but one of a service that the store does not know, as where an older store was put back.
            var service = process.ServiceOf(mark);
            var lost = service > 0 && !store.HasService(new(service));
            if (service != 0 && !lost)
                continue;
            // What it has written over its arguments says nothing of them: then it is its directory that tells.
            var same =
                line.Skip(at + 1).SequenceEqual(program.Arguments)
                || (executes && IsRewritten(line, path) && process.WorkingDirectory == directory);
            var there = process.WorkingDirectory == directory;
            var holds = ports.Count > 0 && ProcessFacts.Sockets(pid).Any(ports.Contains);
            if (common && !same && !holds)
                continue;
            // Neither our own runs, see above, nor what our own checks run.
            if (ProcessFacts.Parent(pid) == Environment.ProcessId)
                continue;
            if ((!lost && !process.StaysForeign(mark)) || !ProcessFacts.Lives(pid))
                continue;
            var user = ProcessFacts.EffectiveUser(pid) ?? 0;
            var own = user == 0 || user == account;
            holds |= ProcessFacts.LocksBelow(pid, directory);
            same |= holds;
            found.Add(
                new(
                    pid,
                    Account.NameOf(user),
                    ProcessFacts.Started(pid),
                    Origin(pid),
                    same,
                    same && (holds || (own && (!common || there)))
                )
            );
        }

        // A copy that forks is one copy: the topmost counts.
        return [.. found.Where(copy => !found.Exists(other => other.Pid == ProcessFacts.Parent(copy.Pid)))];
    }

    /// <summary>Its first word is none that a program is begun by: it shows a title of its own.</summary>
    private static bool IsRewritten(IReadOnlyList<string> line, string executable) =>
        line[0].Contains(' ', StringComparison.Ordinal) && line[0] != executable
        || Path.GetFileName(line[0]) != Path.GetFileName(executable);

    /// <summary>Sockets that listen on a port of the service's, by the kernel's numbers for them.</summary>
    private static HashSet<long> SocketsOn(
        Definition definition,
        SentryStore store,
        Func<IReadOnlyList<Listening>> sockets
    )
    {
        var ports = PortLooks
            .In(definition)
            .Select(one => one.Port)
            .Concat(store.Rehearsal(definition.Name)?.TcpPorts ?? [])
            .ToHashSet();
        return ports.Count == 0
            ? []
            : sockets()
                .Where(socket => socket.Protocol == "tcp" && ports.Contains(socket.Port))
                .Select(socket => socket.Inode)
                .ToHashSet();
    }

    /// <summary>Where on a command line the script stands, its interpreter before it; -1 when it is another.</summary>
    private static int ScriptAt(IReadOnlyList<string> line, ProcessLine process, string script, bool common)
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
            if (Folders.Real(Path.GetFullPath(line[i], process.WorkingDirectory ?? "/")) == script)
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
