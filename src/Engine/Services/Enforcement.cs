using System.Globalization;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Services;

/// <summary>What holds for a live run, read back from the kernel: so that what is shown is what is so.</summary>
internal static class Enforcement
{
    private static readonly string[] DiskClasses = ["by its priority", "real time", "best effort", "idle"];

    public static IReadOnlyList<InForceView> Of(ServiceActor actor, ControlGroups groups, Ceilings ceilings)
    {
        if (actor.Situation.Run is not { Pid: { } pid } run || ProcessFacts.Status(pid, "Uid") is not { } uids)
            return [];
        var site = actor.Site(run.Number);
        return
        [
            Seen(
                "identity.account",
                actor.Definition.Identity.Account,
                Account.NameOf(uint.Parse(uids.Split('\t')[1], CultureInfo.InvariantCulture))
            ),
            .. Identity(actor.Definition, pid),
            .. Standing(actor.Definition, pid),
            .. Ceiled(actor.Definition.Resources, pid, ceilings.InForce(site.Name, site.Group(groups), pid)),
        ];
    }

    private static InForceView Seen(string key, string? set, string kernel, bool? same = null) =>
        new(key, set, kernel, same ?? (set is null || set == kernel));

    private static IEnumerable<InForceView> Identity(Definition definition, int pid)
    {
        var identity = definition.Identity;
        var member = (ProcessFacts.Status(pid, "Groups") ?? "")
            .Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .Select(id => AccountGroup.NameOf(uint.Parse(id, CultureInfo.InvariantCulture)))
            .ToList();
        yield return Seen(
            "identity.groups",
            identity.Groups.IsEmpty ? null : string.Join(", ", identity.Groups),
            string.Join(", ", member),
            identity.Groups.All(member.Contains)
        );
        yield return Seen(
            "identity.umask",
            Set(definition, "identity.umask", IdentityKeys.Umask.Write(identity.Umask)),
            ProcessFacts.Status(pid, "Umask") ?? "?"
        );
        yield return Seen(
            "identity.more-rights",
            identity.MoreRights ? "allowed" : "denied",
            ProcessFacts.Status(pid, "NoNewPrivs") == "1" ? "denied" : "allowed",
            same: true
        );
        var ambient = ProcessFacts.Status(pid, "CapAmb") is { } mask
            ? ulong.Parse(mask, NumberStyles.HexNumber, CultureInfo.InvariantCulture)
            : 0;
        yield return Seen(
            "identity.rights",
            identity.Rights.IsEmpty ? null : string.Join(", ", identity.Rights),
            ambient switch
            {
                0 => "none",
                1ul << 10 => IdentityPart.LowPorts,
                _ => $"{ambient:x}",
            },
            ambient == (identity.HasLowPorts ? 1ul << 10 : 0)
        );
    }

    private static IEnumerable<InForceView> Standing(Definition definition, int pid)
    {
        var resources = definition.Resources;
        var nice = ProcessFacts.Stat(pid, 19);
        yield return Seen(
            "resources.priority",
            Set(definition, "resources.priority", ResourcesKeys.Class.Write(resources.Priority)),
            $"nice {nice}",
            nice == LaunchOrder.NiceOf(resources.Priority)
        );
        var disk = ProcessFacts.DiskPriority(pid);
        if (disk >= 0)
            yield return Seen(
                "resources.disk",
                Set(definition, "resources.disk", ResourcesKeys.Class.Write(resources.Disk)),
                $"{DiskClasses[(disk >> 13) & 3]}{(disk >> 13 == 2 ? $", level {disk & 7}" : "")}",
                disk == (LaunchOrder.DiskOf(resources.Disk) ?? disk)
            );
        yield return Seen(
            "resources.processors",
            resources.Processors.IsEmpty ? null : Processors.Write(resources.Processors),
            ProcessFacts.Status(pid, "Cpus_allowed_list") ?? "?"
        );
    }

    private static IEnumerable<InForceView> Ceiled(
        ResourcesPart resources,
        int pid,
        IReadOnlyDictionary<string, string> inForce
    )
    {
        yield return Seen(
            "resources.memory",
            resources.Memory is { } memory ? Size.Write(memory) : null,
            inForce.TryGetValue("memory", out var bytes)
                ? Size.Write(long.Parse(bytes, CultureInfo.InvariantCulture))
                : "no limit",
            resources.Memory is not { } wanted
                || (
                    inForce.ContainsKey("memory")
                    && Math.Abs(long.Parse(bytes!, CultureInfo.InvariantCulture) - wanted) < 65536
                )
        );
        yield return Seen(
            "resources.cpu",
            resources.Cpu is { } cpu ? $"{cpu} %" : null,
            inForce.TryGetValue("cpu", out var percent) ? $"{percent} %" : "no limit"
        );
        yield return Seen(
            "resources.open-files",
            resources.OpenFiles?.ToString(CultureInfo.InvariantCulture),
            ProcessFacts.Limit(pid, "Max open files") ?? "?"
        );
        yield return Seen(
            "resources.tree-size",
            resources.TreeSize?.ToString(CultureInfo.InvariantCulture),
            inForce.GetValueOrDefault("tasks", "no limit")
        );
    }

    private static string? Set(Definition definition, string key, string value) =>
        definition.Given.Contains(key) ? value : null;
}
