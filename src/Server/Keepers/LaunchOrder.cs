using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Groups;

namespace CalmSentry.Server.Keepers;

/// <summary>What a keeper is told to launch: the definition with everything looked up that the host knows.</summary>
internal static class LaunchOrder
{
    /// <summary>Directories whose programs are the host's own: a service has no business writing there.</summary>
    private static readonly string[] HostDirectories = ["/bin", "/sbin", "/usr/bin", "/usr/sbin", "/usr/local/bin", "/usr/local/sbin", "/usr/lib", "/usr/libexec"];

    public static Message Of(Definition definition, long run, Account account, Places places, ControlGroups groups)
    {
        var order = new Message(KeeperWord.Launch)
            .With(LaunchField.Run, run)
            .With(LaunchField.Place, places.RunOf(definition.Name))
            .With(LaunchField.Output, places.OutputOf(definition.Name))
            .With(LaunchField.Directory, DirectoryOf(definition, places))
            .With(LaunchField.Program, definition.Program.Path)
            .With(LaunchField.Argument, definition.Program.Path);
        if (groups.For($"{definition.Name}.{run}") is { } group) order.With(LaunchField.ControlGroup, group);
        foreach (var argument in definition.Program.Arguments) order.With(LaunchField.Argument, argument);
        foreach (var (name, value) in EnvironmentOf(definition, run, account, places)) order.With(LaunchField.Environment, $"{name}={value}");
        if (Account.OwnId == 0)
        {
            order.With(LaunchField.UserId, account.Uid).With(LaunchField.GroupId, account.Gid);
            foreach (var member in account.Groups) order.With(LaunchField.Supplementary, member);
        }

        return order;
    }

    /// <summary>The directory set, else the program's own, else (for the host's programs) the service's state directory.</summary>
    public static string DirectoryOf(Definition definition, Places places)
    {
        if (definition.Program.Directory is { } set) return set;
        var own = Path.GetDirectoryName(definition.Program.Path) ?? "/";
        return HostDirectories.Contains(own) ? places.StateOf(definition.Name) : own;
    }

    /// <summary>Marks every process of one run, so that its remains are found even when its keeper and cgroup are not.</summary>
    public static string Mark(Definition definition, long run, Places places) =>
        string.Create(CultureInfo.InvariantCulture, $"{places.RunDirectory}:{definition.Name}:{run}");

    private static Dictionary<string, string> EnvironmentOf(Definition definition, long run, Account account, Places places)
    {
        var environment = new Dictionary<string, string>(StringComparer.Ordinal)
        {
            ["PATH"] = account.Uid == 0 ? "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin" : "/usr/local/bin:/usr/bin:/bin",
            ["HOME"] = account.Home,
            ["USER"] = account.Name,
            ["LOGNAME"] = account.Name,
            ["SHELL"] = "/bin/sh",
            ["LANG"] = "C.UTF-8",
            ["CALM_SERVICE"] = definition.Name,
            ["CALM_STATE"] = places.StateOf(definition.Name),
        };
        foreach (var (name, value) in definition.Program.Environment) environment[name] = value;
        environment["CALM_RUN"] = Mark(definition, run, places);
        return environment;
    }
}
