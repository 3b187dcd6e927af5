using System.Collections.Concurrent;
using CalmSentry.Contract;
using CalmSentry.Core.Copies;
using CalmSentry.Core.Definitions;
using CalmSentry.Engine.Services;
using CalmSentry.Inspection.Accounts;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// One look at this host for copies: its processes, what they listen on, and the services whose runs are none. Shared by all that are
/// started as one act: two hundred services may run the same program.
/// </summary>
internal sealed class CopyLook(
    IReadOnlyList<ProcessLine> processes,
    Func<IReadOnlyList<Listening>> sockets,
    IReadOnlyCollection<ServiceActor> services,
    SentryStore store,
    Places places
)
{
    private const int MostAbove = 64,
        MostBelow = 10_000;

    private readonly ConcurrentDictionary<int, int> parents = [];
    private readonly ConcurrentDictionary<Definition, CopyWanted> wanted = new(ReferenceEqualityComparer.Instance);
    private readonly Lazy<CopyHomes> homes = new(() => new(services, places));

    /// <summary>Those below a process; but what comes from the sentry, or from a keeper of its, is its own affair.</summary>
    private readonly Lazy<ILookup<int, int>> children = new(() =>
    {
        var ends = services.Select(one => one.KeeperPid).Append(Environment.ProcessId).ToHashSet();
        return ProcessFacts.All().Where(pid => !ends.Contains(pid)).ToLookup(ProcessFacts.Parent);
    });

    private readonly Lazy<ILookup<long, int>> ports = new(() =>
        sockets().Where(socket => socket.Protocol == "tcp").ToLookup(socket => socket.Inode, socket => socket.Port)
    );

    public IReadOnlyList<ProcessLine> Processes => processes;

    public Places Places => places;

    /// <summary>What a service would run.</summary>
    public CopyWanted LaunchOf(Definition definition) =>
        wanted.GetOrAdd(definition, one => CopyChecks.LaunchOf(one, store, places));

    /// <param name="accounts">Whose processes are believed to be of a rehearsal, a check, or a run that is not known any more.</param>
    public CopyHome HomeOf(int pid, IReadOnlyCollection<uint> accounts) =>
        homes.Value.Of(Above(pid).Prepend(pid), accounts);

    /// <summary>Its parent, that one's parent, and so on.</summary>
    public IEnumerable<int> Above(int pid)
    {
        for (var depth = 0; depth < MostAbove; depth++)
        {
            var parent = parents.GetOrAdd(pid, ProcessFacts.Parent);
            if (parent <= 1)
                yield break;
            yield return pid = parent;
        }
    }

    public IEnumerable<int> ChildrenOf(int pid) => children.Value[pid];

    /// <summary>The process and everything below it.</summary>
    public IReadOnlyList<int> Below(int pid)
    {
        var tree = new List<int> { pid };
        for (var i = 0; i < tree.Count && tree.Count < MostBelow; i++)
            tree.AddRange(children.Value[tree[i]]);
        return tree;
    }

    /// <summary>TCP ports that one of the processes listens on.</summary>
    public IReadOnlySet<int> PortsOf(IEnumerable<int> pids) =>
        pids.SelectMany(ProcessFacts.Sockets).SelectMany(inode => ports.Value[inode]).ToHashSet();
}

/// <summary>In whose run a process is.</summary>
/// <param name="Service">Null: in none of a service that is known.</param>
/// <param name="IsPassing">It is of a rehearsal, or of a check: it ends before anything is started.</param>
/// <param name="IsLost">It is of a run of this sentry's whose service is not in the store, as where an older one was put back.</param>
internal readonly record struct CopyHome(ServiceActor? Service, bool IsPassing = false, bool IsLost = false);

/// <summary>
/// In whose run a process is: by whose keeper it comes from, by the control group it is in, or by a mark that it carries rightly
/// (<see cref="MarkedProcesses"/>).
/// </summary>
internal sealed class CopyHomes(IReadOnlyCollection<ServiceActor> services, Places places)
{
    private readonly Dictionary<int, ServiceActor> byProcess = ByProcess(services);
    private readonly Dictionary<string, ServiceActor> byLabel = ByLabel(services);
    private readonly byte[] mark = System.Text.Encoding.UTF8.GetBytes($"CALM_RUN={places.RunDirectory}:");

    /// <param name="way">The process, its parent, and so on.</param>
    public CopyHome Of(IEnumerable<int> way, IReadOnlyCollection<uint> accounts)
    {
        foreach (var at in way)
        {
            if (byProcess.TryGetValue(at, out var service))
                return new(service);
            if (ProcessFacts.RestOfVariable(at, mark)?.Split(':') is not [var label, var run])
                continue;
            var users = ProcessFacts.Users(at) ?? default;
            if (byLabel.TryGetValue(label.Split('-')[0], out var marked))
            {
                if (
                    users.AreAll(0, Account.Named(marked.Definition.Account)?.Uid ?? 0)
                    || ProcessFacts.InGroup(at, $"{label}.{run}")
                )
                    return new(marked);
            }
            else if (users.AreAll([0, .. accounts]))
                return new(null, IsPassing: label.StartsWith('~'), IsLost: label.StartsWith('S'));
        }

        return default;
    }

    private static Dictionary<int, ServiceActor> ByProcess(IReadOnlyCollection<ServiceActor> services)
    {
        var all = new Dictionary<int, ServiceActor>();
        foreach (var service in services)
        {
            if (service.KeeperPid > 0)
                all[service.KeeperPid] = service;
            else if (service.Situation.Run?.Pid is { } pid)
                all[pid] = service;
        }

        return all;
    }

    private static Dictionary<string, ServiceActor> ByLabel(IReadOnlyCollection<ServiceActor> services)
    {
        var all = new Dictionary<string, ServiceActor>(StringComparer.Ordinal);
        foreach (var service in services)
            all[service.Id.ToString()] = all[service.Label] = service;
        return all;
    }
}

/// <summary>Whose processes may be in a service's way: root's, its account's, whoever asks, and accounts that can become root.</summary>
internal sealed class CopyKin
{
    private readonly Dictionary<uint, bool> known = new() { [0] = true };

    public CopyKin(string account, IEnumerable<uint> askers)
    {
        Accounts = Account.Named(account) is { } own ? [own.Uid] : [];
        foreach (var one in Accounts.Concat(askers))
            known[one] = true;
    }

    /// <summary>The service's own.</summary>
    public IReadOnlyCollection<uint> Accounts { get; }

    /// <summary>By all its ids: a program with the set-user-ID bit acts as its owner, whoever starts it.</summary>
    public bool Includes(ProcessUsers users) =>
        Includes(users.Real) && Includes(users.Effective) && Includes(users.Saved);

    private bool Includes(uint user)
    {
        if (!known.TryGetValue(user, out var isKin))
            known[user] = isKin = Account.WithId(user) is { } account && AccountPower.MayBecomeRoot(account);
        return isKin;
    }
}
