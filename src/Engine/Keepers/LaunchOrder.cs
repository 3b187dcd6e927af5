using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Keepers;

/// <summary>Where a run takes place: a service's own, or a rehearsal's.</summary>
/// <param name="Name">Names its groups, its secret files and its mark: the service's id; a rehearsal's begins with a
/// tilde.</param>
/// <param name="Place">The keeper's directory.</param>
/// <param name="ErrorOutput">File for standard error where it is kept apart.</param>
internal sealed record RunSite(string Name, RunNumber Run, string Place, string Output, string? ErrorOutput = null)
{
    /// <summary>
    /// Marks every process of one run, so that its remains are found even when its keeper and cgroup are not.
    /// </summary>
    public string Mark(Places places) =>
        string.Create(CultureInfo.InvariantCulture, $"{places.RunDirectory}:{Name}:{Run}");

    /// <summary>Where commands belong that are run for it: watches, proofs, steps of a wind-down.</summary>
    public CommandPlace Commands(RunTools tools) => new(Group(tools.Groups), tools.Ceilings.Joins(Name));

    public string? Group(ControlGroups groups) =>
        groups.For(string.Create(CultureInfo.InvariantCulture, $"{Name}.{Run}"));
}

/// <summary>What a keeper is told to launch: the definition with everything looked up that the host knows.</summary>
internal static class LaunchOrder
{
    /// <exception cref="IOException">Something it needs is not there: its message says what, without a full
    /// stop.</exception>
    public static Message Of(
        Definition definition,
        RunSite site,
        Account account,
        RunTools tools,
        bool switchOff = false
    )
    {
        var command = switchOff ? definition.Program.Off : CommandOf(definition.Program);
        var group = site.Group(tools.Groups);
        var order = new Message(KeeperWord.Launch)
            .With(LaunchField.Run, site.Run)
            .With(LaunchField.Place, site.Place)
            .With(LaunchField.Output, site.Output)
            .With(LaunchField.Directory, DirectoryOf(definition, tools.Places))
            .With(LaunchField.Program, command[0])
            .With(LaunchField.Mask, IdentityKeys.Umask.Write(definition.Identity.Umask));
        if (definition.Program.Terminal && !switchOff)
            order.With(LaunchField.Terminal, definition.Program.Screen?.ToString() ?? "1");
        else if (definition.KeepsInput && !switchOff)
            order.With(LaunchField.KeepInput, 1);
        if (site.ErrorOutput is { } error)
            order.With(LaunchField.ErrorOutput, error);
        else
        {
            Output(definition.Output, order, switchOff);
            foreach (var (name, path) in definition.Output.Files)
                order.With(LaunchField.File, $"{tools.Places.KeptFileOf(definition.Name, name)}\n{path}");
            if (definition.Output.Reopen is [SignalStep { WholeTree: false } only])
                order.With(LaunchField.Reopen, SignalNames.Numbers[only.Signal]); // also while no server is there
            else if (!definition.Output.Reopen.IsEmpty)
                order.With(LaunchField.Reopen, LaunchField.ReopenIsAsked);
        }

        if (group is not null)
            order.With(LaunchField.ControlGroup, group);
        foreach (var argument in command)
            order.With(LaunchField.Argument, argument);
        foreach (var (name, value) in EnvironmentOf(definition, account, site.Name, tools.Places))
            order.With(LaunchField.Environment, $"{name}={value}");
        if (definition.Program.Window is not null && !switchOff && tools.Displays.Of(site.Name) is { } display)
        {
            order.With(LaunchField.Sockets, display.Sockets);
            foreach (var (name, value) in tools.Displays.Environment(site.Name))
                order.With(LaunchField.Environment, $"{name}={value}");
        }

        foreach (var (name, value) in SecretsOf(definition, site, account, tools, order))
            order.With(LaunchField.Environment, $"{name}={value}");
        order.With(LaunchField.Environment, $"CALM_RUN={site.Mark(tools.Places)}");
        if (Account.OwnId == 0)
        {
            order.With(LaunchField.UserId, account.Uid).With(LaunchField.GroupId, account.Gid);
            foreach (var member in GroupsOf(definition, account))
                order.With(LaunchField.Supplementary, member);
        }

        Limit(definition.Resources, site, group, tools, order);
        if (!definition.Identity.MoreRights && account.Uid != 0)
            order.With(LaunchField.NoMoreRights, 1);
        if (definition.Identity.HasLowPorts && account.Uid != 0)
            order.With(LaunchField.LowPorts, 1);
        return order;
    }

    /// <summary>How its output is kept, as an order says it.</summary>
    public static Message Output(OutputPart output, Message order, bool goesOn)
    {
        order.With(LaunchField.TurnAt, output.TurnAt);
        if (output.ThinAbove is { } lines)
            order.With(LaunchField.Thin, lines);
        if (output.WhenFull == WhenFull.GoOn)
            order.With(LaunchField.GoOn, 1);
        if (output.Stamp)
            order.With(LaunchField.Stamp, 1);
        if (!goesOn && (output.Write == OutputWrite.Fresh || output.TurnAtStart))
            order.With(LaunchField.AtStart, output.Write == OutputWrite.Fresh ? "fresh" : "turn-over");
        return order;
    }

    /// <summary>The program with its interpreter and what stands between the two.</summary>
    public static IReadOnlyList<string> CommandOf(ProgramPart program) =>
        program.With is { } with
            ? [with, .. ScriptKind.OfInterpreter(with)?.Before ?? [], program.Path, .. program.Arguments]
            : [program.Path, .. program.Arguments];

    /// <summary>
    /// The directory set, else the program's own, else (for the host's programs) the service's state directory.
    /// </summary>
    public static string DirectoryOf(Definition definition, Places places)
    {
        if (definition.Program.Directory is { } set)
            return set;
        var own = Path.GetDirectoryName(definition.Program.Path) ?? "/";
        return HostPlaces.HoldsPrograms(own) ? places.StateOf(definition.Name) : own;
    }

    /// <summary>All a service gets beside its secrets: nothing of the sentry's own environment is passed on.</summary>
    public static Dictionary<string, string> EnvironmentOf(
        Definition definition,
        Account account,
        string label,
        Places places
    )
    {
        var environment = new Dictionary<string, string>(StringComparer.Ordinal)
        {
            ["PATH"] =
                account.Uid == 0
                    ? "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
                    : "/usr/local/bin:/usr/bin:/bin",
            // Programs keep settings there: an account without a home has the service's own place for that.
            ["HOME"] = Directory.Exists(account.Home) ? account.Home : places.StateOf(definition.Name),
            ["USER"] = account.Name,
            ["LOGNAME"] = account.Name,
            ["SHELL"] = "/bin/sh",
            ["LANG"] = "C.UTF-8",
            ["CALM_SERVICE"] = definition.Name,
            ["CALM_STATE"] = places.StateOf(definition.Name),
            ["CALM_SAY"] = places.SayOf(label),
        };
        // What it prints goes to a file, read line by line: no colours and no moving about.
        if (definition.Program.Terminal)
            environment["TERM"] = definition.Program.Screen is null ? "dumb" : "xterm-256color";
        foreach (var (name, value) in definition.Program.Environment)
            environment[name] = value;
        return environment;
    }

    /// <summary>The account's own groups and those it is given beside them.</summary>
    /// <exception cref="IOException">A group is not there.</exception>
    public static IReadOnlyList<uint> GroupsOf(Definition definition, Account account) =>
        [
            .. account
                .Groups.Concat(
                    definition.Identity.Groups.Select(name =>
                        AccountGroup.Named(name)?.Gid
                        ?? throw new IOException(
                            $"this host has no group named {name}; make it, or set others with --group"
                        )
                    )
                )
                .Distinct(),
        ];

    private static IEnumerable<(string Name, string Value)> SecretsOf(
        Definition definition,
        RunSite site,
        Account account,
        RunTools tools,
        Message order
    )
    {
        foreach (var (key, asFile) in definition.Program.Secrets)
        {
            var value = tools.Secrets.Open(definition.Name, key);
            Hide(value, order);
            yield return (key, asFile ? tools.SecretFiles.Write(site.Name, key, value, account) : value);
        }

        // Where what is typed is shown, an answer would be.
        foreach (var key in definition.Program.SecretKeys.Except(definition.Program.Secrets.Select(one => one.Key)))
            if (tools.Secrets.Has(definition.Name, key))
                Hide(tools.Secrets.Open(definition.Name, key), order);
    }

    private static void Hide(string value, Message order)
    {
        // Each line too: a program that prints a key of several lines prints line by line.
        foreach (
            var text in value
                .Split('\n')
                .Append(value)
                .Where(text => System.Text.Encoding.UTF8.GetByteCount(text) >= 4)
                .Distinct()
        )
            if (text == value || text.Length >= 8)
                order.With(LaunchField.Hide, text);
    }

    private static void Limit(ResourcesPart resources, RunSite site, string? group, RunTools tools, Message order)
    {
        var share = ShareOf(resources);
        var (join, outOfMemory) = tools.Ceilings.Set(site.Name, group, share);
        foreach (var directory in join)
            order.With(LaunchField.Join, directory);
        if (outOfMemory is not null)
            order.With(LaunchField.OutOfMemory, outOfMemory);
        if (Account.OwnId == 0 || resources.Priority != PriorityClass.Normal)
            order.With(LaunchField.Nice, NiceOf(resources.Priority));
        if (DiskOf(resources.Disk) is { } disk)
            order.With(LaunchField.Disk, disk);
        foreach (var processor in resources.Processors)
            order.With(LaunchField.Processor, processor);
        if (resources.OpenFiles is { } files)
            order.With(LaunchField.OpenFiles, files);
        else
            order.With(LaunchField.UsualFiles, OwnStanding.UsualFiles);
    }

    public static Share ShareOf(ResourcesPart resources) =>
        new(
            resources.Memory,
            resources.Cpu,
            resources.TreeSize,
            resources.Processors.IsEmpty ? null : Processors.Write(resources.Processors)
        );

    /// <summary>setpriority(2)</summary>
    public static int NiceOf(PriorityClass priority) =>
        priority switch
        {
            PriorityClass.Idle => 19,
            PriorityClass.BelowNormal => 10,
            PriorityClass.AboveNormal => -5,
            PriorityClass.High => -10,
            _ => 0,
        };

    /// <summary>
    /// ioprio_set(2): class 3 is idle, class 2 best effort with levels 0 (first) to 7; null leaves it to the nice
    /// value, as the kernel does.
    /// </summary>
    public static int? DiskOf(PriorityClass priority) =>
        priority switch
        {
            PriorityClass.Idle => 3 << 13,
            PriorityClass.BelowNormal => (2 << 13) | 6,
            PriorityClass.AboveNormal => (2 << 13) | 2,
            PriorityClass.High => 2 << 13,
            _ => null,
        };
}
