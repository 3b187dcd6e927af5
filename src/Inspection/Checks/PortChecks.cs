using System.Net;
using System.Text;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// Ports the program will want that somebody has already: those its rehearsal opened, and those its definition speaks
/// of.
/// </summary>
internal static class PortChecks
{
    /// <summary>Ports that only root may open, wanted by another account.</summary>
    private static IEnumerable<Finding> TooLow(Subject subject, IReadOnlyList<(int Port, string Where)> wanted)
    {
        var definition = subject.Definition;
        if (subject.Account is not { Uid: not 0 } account || definition.Identity.HasLowPorts)
            yield break;
        var from = NetworkState.FirstFreePort;
        foreach (var (port, where) in wanted.Where(one => one.Port < from))
            yield return new(
                FindingCode.LowPort,
                Severity.Risk,
                $"TCP port {port} ({where}) is below {from}: {account.Name} may not open it.",
                "By hand it works for root. As its account the program would be refused the port.",
                Account.OwnId == 0
                    ? $"Give it that right, and nothing more: calm adjust {definition.Name} --right {IdentityPart.LowPorts}"
                    : $"Give it a port from {from} on; only a sentry that runs as root can give the right."
            );
    }

    /// <param name="going">Processes that would be ended first: what they hold is free then.</param>
    public static IEnumerable<Finding> Look(Subject subject, IReadOnlySet<int> going)
    {
        var definition = subject.Definition;
        var rehearsed = subject.Tools.Store.Rehearsal(definition.Name)?.TcpPorts ?? [];
        var wanted = PortLooks.In(definition).ToList();
        wanted.AddRange(
            rehearsed.Where(port => !wanted.Exists(known => known.Port == port)).Select(port => (port, "its rehearsal"))
        );
        if (definition.Identity.HasLowPorts && Account.OwnId != 0)
            yield return new(
                FindingCode.RightNotPossible,
                Severity.Blocks,
                $"This sentry runs as {Account.NameOf(Account.OwnId)} and cannot give the right {IdentityPart.LowPorts}.",
                "Only root can give an account rights of the kernel.",
                $"Take it off: calm adjust {definition.Name} --unset identity.rights. Or let the sentry run as root."
            );
        if (wanted.Count == 0)
            yield break;
        foreach (var finding in TooLow(subject, wanted))
            yield return finding;
        var taken = subject.Host.Sockets.Where(socket => socket.Protocol == "tcp").ToList();
        foreach (var (port, where) in wanted)
        {
            if (taken.Find(socket => socket.Port == port) is not { } socket)
                continue;
            var holder = socket.Holder();
            if (holder is { } ending && going.Contains(ending))
                continue;
            // A rehearsal ends before anything is started.
            if (
                holder is { } own
                // Anybody can say so of a process.
                && ProcessFacts.Users(own)?.AreAll(0, subject.Account?.Uid ?? 0) == true
                && ProcessFacts.HasVariableThatBegins(
                    own,
                    Encoding.UTF8.GetBytes($"CALM_RUN={subject.Tools.Places.RunDirectory}:~")
                )
            )
                continue;
            var who = holder is { } pid
                ? $"{string.Join(' ', ProcessFacts.CommandLine(pid).Take(3))} (pid {pid}, as "
                    + $"{Account.NameOf(ProcessFacts.EffectiveUser(pid) ?? 0)})"
                : $"a process of {Account.NameOf(socket.Uid)}";
            var service = holder is { } held
                ? subject.Others.FirstOrDefault(other => other.Situation.Run?.Pid == held)?.Definition.Name
                : null;
            yield return new(
                FindingCode.PortTaken,
                Severity.Blocks,
                $"TCP port {port} ({where}) is taken: {who} listens on "
                    + $"{new IPEndPoint(socket.Address, port)}{(service is null ? "" : $", which is the service {service}")}.",
                "The program would fail at once, or two would share what is meant for one.",
                service is null
                    ? $"End that program, or give this one another "
                        + $"port{(holder is { } end ? $"; 'kill {end}' asks it to end" : "")}."
                    : $"Stop it ('calm stop {service}'), or give this one another port.",
                OnlyNow: true
            );
        }
    }
}
