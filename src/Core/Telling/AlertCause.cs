using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Telling;

public enum CauseKind
{
    /// <summary>A service, by its name.</summary>
    Service,

    /// <summary>A path that is not there.</summary>
    Path,

    /// <summary>An address at which nothing answers.</summary>
    Address,

    Network,

    /// <summary>An account that cannot be used.</summary>
    Account,

    /// <summary>The sentry and its machine.</summary>
    Machine,

    /// <summary>The terminal of a service, by its name: what it asks there.</summary>
    Terminal,

    /// <summary>The window of a service, by its name: what it asks there.</summary>
    Window,
}

/// <summary>What is behind an alert; two of the same cause are one.</summary>
public readonly record struct AlertCause(CauseKind Kind, string Name)
{
    public static AlertCause Of(string service) => new(CauseKind.Service, service);

    /// <summary>It is a service of that name, its terminal or its window.</summary>
    public bool IsOf(string service) => IsOfService && Name == service;

    /// <summary>It is what a service asks at its terminal, or in its window.</summary>
    public bool IsWhereItAsks => Kind is CauseKind.Terminal or CauseKind.Window;

    public bool IsOfService => Kind == CauseKind.Service || IsWhereItAsks;

    public static AlertCause Machine { get; } = new(CauseKind.Machine, "");

    public override string ToString() =>
        Kind switch
        {
            CauseKind.Path => $"{Name} is missing",
            CauseKind.Address => $"{Name} does not answer",
            CauseKind.Network => "the network is missing",
            CauseKind.Account => $"the account {Name} cannot be used",
            CauseKind.Machine => "this machine",
            CauseKind.Terminal => $"the terminal of {Name}",
            CauseKind.Window => $"the window of {Name}",
            _ => Name,
        };
}

/// <summary>Finds what is behind something that happened.</summary>
public static class Causes
{
    /// <param name="isTrouble">It is a trouble of the service itself, which something else may be behind.</param>
    /// <param name="missedBy">What others may miss as well: a directory of which parts that the service uses are missing, an account
    /// that this host does not have; null: nothing is.</param>
    /// <param name="isInTrouble">Whether a service is itself in trouble, or on its way out of it.</param>
    public static AlertCause Of(
        Entry entry,
        Definition definition,
        NeedGraph graph,
        bool isTrouble,
        Func<Definition, AlertCause?> missedBy,
        Func<string, bool> isInTrouble
    )
    {
        if (
            entry is NeedMissingEntry missed
            && definition.Begin.Needs.FirstOrDefault(need => IsAbout(missed, need)) is { } need
        )
        {
            switch (need)
            {
                case ServiceNeed service:
                    return AlertCause.Of(Root(service.Service, graph, isInTrouble));
                case PathNeed path:
                    return new(CauseKind.Path, path.Path);
                case TcpNeed tcp:
                    return new(CauseKind.Address, tcp.Address);
                case NetworkNeed:
                    return new(CauseKind.Network, "");
            }
        }

        if (entry.Asks is { } at)
            return new(KindOf(at), definition.Name);
        // What it says, or what became of its files, is its own affair.
        if (!isTrouble)
            return AlertCause.Of(definition.Name);
        var root = Root(definition.Name, graph, isInTrouble);
        return root != definition.Name ? AlertCause.Of(root) : missedBy(definition) ?? AlertCause.Of(root);
    }

    public static CauseKind KindOf(AskedAt at) => at == AskedAt.Window ? CauseKind.Window : CauseKind.Terminal;

    /// <summary>Entries of earlier versions know a need by what people call it alone.</summary>
    private static bool IsAbout(NeedMissingEntry missed, Need need) =>
        missed.Id is { } id ? need.Id == id : need.InWords == missed.Need;

    /// <summary>Of a service and all that it needs, the one in trouble that needs none that is.</summary>
    private static string Root(string service, NeedGraph graph, Func<string, bool> isTrouble)
    {
        while (graph.NeedsOf(service).FirstOrDefault(isTrouble) is { } needed)
            service = needed;
        return service;
    }
}
