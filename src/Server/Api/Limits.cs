using CalmSentry.Contract;
using CalmSentry.Engine.Services;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Self;
using CalmSentry.Store;
using CalmSentry.Telling;
using CalmSentry.Telling.Forwarding;

namespace CalmSentry.Server.Api;

/// <summary>What the host or the store does not allow now, each as a sentence or two.</summary>
internal static class Limits
{
    public static IReadOnlyList<string> Of(
        SentryStore store,
        Registry registry,
        Places places,
        ControlGroups groups,
        Forwarders forwarders,
        Teller teller,
        SettingsFile settings
    )
    {
        var limits = new List<string>();
        if (Account.OwnId != 0)
            limits.Add(
                $"Not run as root: services run only as {Account.NameOf(Account.OwnId)}, and only while that "
                    + $"account may run programs."
            );
        if (groups.WhyNot is { } why)
            limits.Add($"No control groups ({why}): a run's processes are tracked by descent alone.");
        if (OwnStanding.OwnNamespaces() is { Count: > 0 } own)
            limits.Add(
                $"The sentry's namespaces are not those of the host's first process: {string.Join(", ", own)}. Services have the "
                    + "sentry's."
            );
        if (Account.OwnId == 0 && !OwnStanding.HasKeyrings())
            limits.Add("No keyrings (keyctl(2) is refused): services have the one that the sentry was begun with.");
        limits.AddRange(ThatPass(store, registry, places, forwarders, teller, settings));
        return limits;
    }

    /// <summary>Those of them that are of this boot, or of the store, and that somebody may want to do something about.</summary>
    public static IReadOnlyList<string> ThatPass(
        SentryStore store,
        Registry registry,
        Places places,
        Forwarders forwarders,
        Teller teller,
        SettingsFile settings
    )
    {
        var limits = new List<string>();
        if (registry.HeldBack is { } heldBack)
            limits.Add(
                $"Nothing was started at this boot: {heldBack}. What starts with the machine stays stopped until somebody "
                    + "starts it."
            );
        if (store.Failure is { } failure)
            limits.Add($"The store cannot be written: {failure}. It is tried again every second.");
        if (store.LeftOut > 0)
            limits.Add(
                $"{store.LeftOut} entries of the logbook and of runs were left out: too many waited for a disk that took nothing."
            );
        if (store.SetApart is { } apart)
            limits.Add($"The store was damaged ({store.Damage}) and begun anew; what is left of it lies at {apart}.");
        else if (store.Damage is { } damage)
            limits.Add(
                $"The store is damaged: {damage}. Definitions are in {places.Definitions}, too: end the sentry alone, move "
                    + $"{places.Database} away, and start it: it is made again from them."
            );
        if (store.Broken is { } broken)
            limits.Add(
                $"The logbook is not as it was written: {broken}. Somebody else wrote to {places.Database}; 'calm logbook --prove' looks again."
            );
        if (store.Refused is { } refused)
            limits.Add($"The store refused something for what is in it ({refused}); it is not on record.");
        if (settings.Trouble is { } mistake)
            limits.Add(mistake);
        limits.AddRange(forwarders.Troubles);
        limits.AddRange(teller.Troubles);
        if (teller.NobodyHears is { } nobody)
            limits.Add(nobody);
        return limits;
    }
}
