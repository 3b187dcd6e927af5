using System.Collections.Immutable;
using CalmSentry.Contract;
using CalmSentry.Core.Copies;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;
using CalmSentry.Store;

namespace CalmSentry.Inspection.Checks;

/// <summary>A copy of the program that somebody else has running already: the topmost process of it.</summary>
/// <param name="Inside">The service in whose run it was begun; null: in none.</param>
/// <param name="Starter">Whoever began it, and may begin it again when it ends: a script that goes on; null: nobody is seen to.</param>
internal sealed record Copy(
    int Pid,
    string User,
    DateTimeOffset Since,
    string From,
    CopyVerdict Verdict,
    string? Inside,
    CopyStarter? Starter
)
{
    public bool Blocks => Verdict == CopyVerdict.InTheWay;

    public override string ToString() =>
        $"pid {Pid}, as {User}, since {WallClock.In(Since, TimeZoneInfo.Local):yyyy-MM-dd HH:mm}, "
        + (Starter is null ? From : $"started by {Starter}, which may start it again")
        + (Inside is null ? "" : $", inside the service {Inside}");
}

/// <summary>A script that began a copy.</summary>
internal sealed record CopyStarter(int Pid, long Began, string Command)
{
    public bool Lives => ProcessFacts.Lives(Pid) && ProcessFacts.Stat(Pid, 22) == Began;

    public override string ToString() => $"{Command} (pid {Pid})";
}

/// <summary>Copies running outside this sentry, as the kernel has them; what counts as one <see cref="CopyRule"/> says.</summary>
internal static class CopyChecks
{
    public static IEnumerable<Finding> Look(Subject subject, IReadOnlyList<Copy> copies)
    {
        var name = subject.Definition.Name;
        if (copies.Where(copy => copy.Blocks && !subject.EndsCopies).ToList() is { Count: > 0 } blocking)
            yield return new(
                FindingCode.CopyRunning,
                Severity.Blocks,
                $"The same program runs already, outside the sentry: {Listed(blocking)}.",
                "Two copies at once write over each other or fight for a port.",
                $"End it where it was started; or let the sentry end it cleanly first: calm start {name} "
                    + $"--end-copies. If two are wanted: --accept copy-running.",
                OnlyNow: true
            );
        if (
            copies.Where(copy => copy.Verdict is CopyVerdict.Named or CopyVerdict.Tool).ToList() is { Count: > 0 } named
        )
            yield return new(
                FindingCode.CopyOfAnother,
                Severity.Note,
                $"The same program runs outside the sentry, in nobody's way: {Listed(named)}.",
                "Another account runs it without this service's port. Or the program is a tool of the host, and its arguments name no file or port.",
                "Nothing needs to be done.",
                OnlyNow: true
            );
        if (copies.Where(copy => copy.Verdict == CopyVerdict.OtherArguments).ToList() is { Count: > 0 } others)
            yield return new(
                FindingCode.CopyWithOtherArguments,
                Severity.Risk,
                $"The program runs already with other arguments, outside the sentry: {Listed(others)}.",
                "If it is a forgotten copy, the two may write over each other.",
                "Look whether it is still needed, and end it if not.",
                OnlyNow: true
            );
    }

    private const int MostListed = 20;

    private static string Listed(List<Copy> copies) =>
        string.Join("; ", copies.Take(MostListed))
        + (copies.Count > MostListed ? $"; and {copies.Count - MostListed} more" : "");

    public static IReadOnlyList<Copy> Find(Subject subject, CopyLook look) =>
        Find(subject.Definition, look, subject.Askers);

    /// <param name="askers">Whoever asks, by number: what they started by hand is in the way.</param>
    public static IReadOnlyList<Copy> Find(Definition definition, CopyLook look, IReadOnlyCollection<uint> askers)
    {
        var wanted = look.LaunchOf(definition);
        var script = wanted.Script < 0 ? null : Path.GetFileName(wanted.Words[wanted.Script].Value);
        var kin = new CopyKin(definition.Account, askers);
        var found = new Dictionary<int, Copy>();
        foreach (var process in look.Processes)
        {
            var (pid, executable) = (process.Pid, ExecutableOf(process));
            if (executable != wanted.Executable && (script is null || !MayRun(process, script)))
                continue;
            if (executable.EndsWith("/calm", StringComparison.Ordinal))
                continue;
            var (home, isPassing, isLost) = look.HomeOf(pid, kin.Accounts);
            if (isPassing || home?.Definition.Name == definition.Name)
                continue;
            // Another service that runs the very same is one that somebody wrapped: that was said when it was. And what our own checks
            // run comes from this process, and from no keeper.
            if (
                home is null
                    ? !isLost && look.Above(pid).Contains(Environment.ProcessId)
                    : IsOwnProgram(look.LaunchOf(home.Definition), wanted)
            )
                continue;
            if (!SharesFiles(process, wanted.Executable))
                continue;
            if (ProcessFacts.Users(pid) is not { } users)
                continue;
            var isKin = kin.Includes(users);
            var sight = new CopySight(
                executable,
                WordsOf(process, isKin),
                ShowsTitle(process),
                isKin ? CopyOwner.Kin : CopyOwner.Stranger,
                IsLostRun: isLost
            );
            // Nor one that has become another program, or ended, since it was read.
            if (!CopyRule.IsLike(wanted, sight) || process.HasChanged() || !ProcessFacts.Lives(pid))
                continue;
            var verdict = CopyRule.Judge(wanted, WithHeld(sight, process, wanted, definition, look));
            if (verdict != CopyVerdict.None)
                found[pid] = new(
                    pid,
                    Account.NameOf(users.Effective),
                    ProcessFacts.Started(pid),
                    Origin(pid),
                    verdict,
                    home?.Definition.Name,
                    StarterOf(pid, look)
                );
        }

        // A copy that forks is one copy: the topmost counts, for what those below it hold it holds.
        return
        [
            .. found.Values.Where(copy =>
                !look.Above(copy.Pid).Any(above => found.GetValueOrDefault(above)?.Verdict >= copy.Verdict)
            ),
        ];
    }

    private static CopySight WithHeld(
        CopySight sight,
        ProcessLine process,
        CopyWanted wanted,
        Definition definition,
        CopyLook look
    )
    {
        var directory = Folders.Real(LaunchOrder.DirectoryOf(definition, look.Places));
        var tree = look.Below(process.Pid);
        var listening = look.PortsOf(tree);
        var holdsPort = listening.Any(wanted.Ports.Contains);
        string[] folders = [directory, look.Places.StateOf(definition.Name)];
        string[] files = [.. definition.Output.Files.Values];
        var isKin = sight.Owner == CopyOwner.Kin;
        return sight with
        {
            HoldsPort = holdsPort,
            HoldsOtherPorts = !holdsPort && listening.Count > 0,
            // Of a stranger's these count for nothing, and are not looked at.
            HoldsLock = isKin && tree.Any(pid => ProcessFacts.HoldsLock(pid, IsIts)),
            WritesFile = isKin && tree.SelectMany(ProcessFacts.WrittenFiles).Any(IsIts),
            IsThere = process.WorkingDirectory == directory,
        };

        bool IsIts(string path) =>
            files.Contains(path)
            || folders.Any(folder =>
                !HostPlaces.IsShared(folder) && path.StartsWith($"{folder.TrimEnd('/')}/", StringComparison.Ordinal)
            );
    }

    /// <summary>What a service would run, down to the file that is executed in the end.</summary>
    internal static CopyWanted LaunchOf(Definition definition, SentryStore store, Places places)
    {
        var directory = Folders.Real(LaunchOrder.DirectoryOf(definition, places));
        var program = definition.Program;
        var command = LaunchOrder.CommandOf(program);
        var (executable, rest) = (Folders.Real(command[0]), command.Skip(1).ToList());
        var script = -1;
        if (program.With is not null)
            script = rest.Count - program.Arguments.Length - 1;
        else if (Interpreters.FirstLine(program.Path) is not null)
        {
            // The kernel executes what its first line says, and hands it over the path it was called by.
            executable = Interpreters.Best(program.Path) is { } meant ? Folders.Real(meant.Path) : executable;
            rest.Insert(0, program.Path);
            script = 0;
        }
        else if (ScriptKind.OfInterpreter(program.Path) is { } kind)
            script = kind.ScriptAmong(rest);

        return new(
            executable,
            [.. rest.Select(word => WordOf(word, [directory], followsLinks: true))],
            script,
            script < 0 && ScriptKind.OfInterpreter(executable)?.IsAmong(rest) == true,
            HostPlaces.HoldsPrograms(Path.GetDirectoryName(executable) ?? "/")
                || HostPlaces.HoldsPrograms(Path.GetDirectoryName(command[0]) ?? "/"),
            [
                .. PortLooks
                    .In(definition)
                    .Select(one => one.Port)
                    .Concat(store.Rehearsal(definition.Name)?.TcpPorts ?? [])
                    .Distinct(),
            ]
        );
    }

    private static bool IsOwnProgram(CopyWanted its, CopyWanted wanted) =>
        CopyRule.Judge(wanted, new(its.Executable, its.Words, ShowsTitle: false, CopyOwner.Kin))
            is CopyVerdict.InTheWay
                or CopyVerdict.Tool;

    /// <summary>
    /// A process may have gone elsewhere since it was given its words: it is asked for where it is, and where it was begun. Links are
    /// followed only on behalf of those whose word counts, for a look at a file may be a look at somebody else's file system.
    /// </summary>
    private static ImmutableArray<CopyWord> WordsOf(ProcessLine process, bool isKin)
    {
        var folders = new[] { process.WorkingDirectory, ProcessFacts.ValueOf(process.Pid, "PWD") }
            .OfType<string>()
            .Where(Path.IsPathRooted)
            .Distinct()
            .ToList();
        return [.. process.Command.Skip(1).Take(MostWords).Select(word => WordOf(word, folders, isKin))];
    }

    private const int MostWords = 1000;

    private static CopyWord WordOf(string word, IReadOnlyList<string> folders, bool followsLinks)
    {
        var (option, value) = CopyWord.Split(word);
        if (value.Length == 0 || value.Contains('\0', StringComparison.Ordinal))
            return new(option, value, [], false);
        var paths = folders.Select(folder => Path.GetFullPath(value, folder)).Distinct().ToList();
        return followsLinks
            ? new(option, value, [.. paths.Select(Folders.Real)], paths.Exists(Path.Exists))
            : new(option, value, [.. paths], false);
    }

    private static string ExecutableOf(ProcessLine process)
    {
        // Whose file was replaced meanwhile runs on (proc(5), exe).
        const string replaced = " (deleted)";
        var executable = process.Executable ?? "";
        return executable.EndsWith(replaced, StringComparison.Ordinal) ? executable[..^replaced.Length] : executable;
    }

    private static bool MayRun(ProcessLine process, string script) =>
        process.Command.Skip(1).Any(word => word.EndsWith(script, StringComparison.Ordinal));

    /// <summary>In a container the same path is another file.</summary>
    private static bool SharesFiles(ProcessLine process, string executable) =>
        ProcessFacts.HasOwnMounts(process.Pid) != true
        || FileFacts.AreOne(ProcessFacts.ExecutableLink(process.Pid), executable);

    /// <summary>
    /// Whether it has written over its arguments: then it says nothing of them. The rest of the room shows as empty words, and its first
    /// word is none that a program is begun by.
    /// </summary>
    private static bool ShowsTitle(ProcessLine process)
    {
        var line = process.Command;
        return line[0] != process.Executable
            && (
                line[0].Contains(' ', StringComparison.Ordinal)
                || (line.Count > 1 && line.Skip(1).All(word => word.Length == 0))
                || (
                    line.Count == 1
                    && !Path.GetFileName(ExecutableOf(process))
                        .StartsWith(Path.GetFileName(line[0]).TrimStart('-'), StringComparison.Ordinal)
                )
            );
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

    /// <summary>
    /// A script that waits for it, and for nothing else: what comes after that nobody knows. One that has begun something else meanwhile,
    /// such as whoever asks just now, has gone on without waiting.
    /// </summary>
    private static CopyStarter? StarterOf(int pid, CopyLook look)
    {
        var parent = ProcessFacts.Parent(pid);
        if (
            parent <= 1
            || look.ChildrenOf(parent).Any(child => child != pid)
            || ProcessFacts.Executable(parent) is not { } executable
        )
            return null;
        var command = ProcessFacts.CommandLine(parent);
        return
            ScriptKind.OfInterpreter(executable) is { } kind
            && command.Count > 1
            && (kind.IsAmong([.. command.Skip(1)]) || kind.ScriptAmong([.. command.Skip(1)]) >= 0)
            ? new(parent, ProcessFacts.Stat(parent, 22), Shown.Line(string.Join(' ', command.Take(3))))
            : null;
    }
}
