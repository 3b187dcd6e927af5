using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Native;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// Whether the account really gets at the program, its directory and the files it is given; asked by a process that is
/// that account.
/// </summary>
internal static class PlaceChecks
{
    /// <summary>A place, the right it needs, and what it means when it is refused.</summary>
    private sealed record Need(char Right, string Path, string What, FindingCode Code, Severity Severity);

    /// <param name="whole">Also what it can do without, but an administrator wants to know.</param>
    public static async Task<IReadOnlyList<Finding>> Look(Subject subject, bool programIsThere, bool whole)
    {
        var found = new List<Finding>();
        var (definition, program) = (subject.Definition, subject.Definition.Program);
        if (program.Directory is { } set && !Directory.Exists(set))
        {
            found.Add(
                new(
                    FindingCode.DirectoryMissing,
                    Severity.Blocks,
                    File.Exists(set) ? $"{set} is a file, not a directory." : $"The directory {set} is not there.",
                    "A program is launched inside its directory; without one it is not launched at all.",
                    $"Make it ('mkdir -p {CommandLine.Typed(set)}'), or name another with --directory."
                )
            );
        }

        if (subject.Account is null)
            return found;
        var needs = new List<Need>();
        if (programIsThere)
        {
            if (program.With is { } with)
                needs.AddRange([
                    new('x', with, "execute its interpreter", FindingCode.AccountCannotRun, Severity.Blocks),
                    new('r', program.Path, "read its program", FindingCode.AccountCannotRun, Severity.Blocks),
                ]);
            else
                needs.Add(new('x', program.Path, "execute its program", FindingCode.AccountCannotRun, Severity.Blocks));
        }

        var directory = LaunchOrder.DirectoryOf(definition, subject.Tools.Places);
        if (Directory.Exists(directory) && directory != subject.Tools.Places.StateOf(definition.Name))
        {
            needs.Add(new('x', directory, "enter its directory", FindingCode.DirectoryUnreachable, Severity.Blocks));
            if (whole && subject.Tools.States.Waiting(definition.Name) is null)
                needs.Add(
                    new('w', directory, "make files in its directory", FindingCode.DirectoryReadOnly, Severity.Note)
                );
        }

        // Its state directory is made for it and always its own.
        if (
            program.PidFile is { } pidFile
            && Path.GetDirectoryName(pidFile) is { } folder
            && folder != subject.Tools.Places.StateOf(definition.Name)
        )
            needs.Add(new('w', folder, "write its pid file in", FindingCode.PidFileUnwritable, Severity.Blocks));
        needs.AddRange(
            CommandsOf(definition)
                .Select(command => new Need(
                    'x',
                    command.Path,
                    $"execute the command of {command.Key}",
                    FindingCode.CommandUnusable,
                    Severity.Risk
                ))
        );
        needs.AddRange(
            FilesAmong(program, directory)
                .Select(file => new Need('r', file, "read", FindingCode.FileUnreadable, Severity.Risk))
        );
        found.AddRange(await Ask(subject, needs).ConfigureAwait(false));
        return found;
    }

    /// <summary>Programs that are run beside its own, as its account, and the keys that name them.</summary>
    private static IEnumerable<(string Key, string Path)> CommandsOf(Definition definition)
    {
        if (definition.Begin.Proof is CommandProof proof)
            yield return ("begin.proof", proof.Command[0]);
        foreach (var watch in definition.Watch.OfType<AnswerWatch>())
            if (watch.Look is CommandProof look)
                yield return ("watch", look.Command[0]);
        foreach (var step in definition.WindDown.OfType<CommandStep>())
            yield return ("wind-down", step.Command[0]);
        foreach (var then in definition.Recover.Then)
            yield return ("recover.then", then.Command[0]);
    }

    /// <summary>What a service of the same name kept before, and this one starts without.</summary>
    public static IEnumerable<Finding> SetApart(Subject subject)
    {
        if (subject.Account is { } account && subject.Tools.States.Waiting(subject.Definition.Name) is { } apart)
            yield return new(
                FindingCode.StateSetApart,
                Severity.Risk,
                $"What a service of this name kept before is set apart for root: {apart}.",
                "Its account was removed; the next account with its number must not find it by accident. This "
                    + "service starts without it.",
                $"calm account hand-over {account.Name} {subject.Definition.Name}   gives it to the "
                    + $"service; or remove it."
            );
    }

    private static async Task<IReadOnlyList<Finding>> Ask(Subject subject, IReadOnlyList<Need> needs)
    {
        // Of a path that is refused it is the first folder on the way that a person must mend: all of them are asked in
        // one go.
        var ways = needs
            .Select(need =>
                Folders
                    .Above(subject.AsAccount.Met(need.Path))
                    .Concat(Folders.Above(subject.AsAccount.Met(Folders.Real(need.Path))))
                    .Distinct()
                    .Select(folder => new AccessQuestion('x', folder))
                    .Append(new(need.Right, subject.AsAccount.Met(need.Path)))
                    .ToList()
            )
            .ToList();
        var answers = await subject
            .AsAccount.Ask(subject.Account!, subject.Groups, [.. ways.SelectMany(way => way)])
            .ConfigureAwait(false);
        var (found, told) = (new List<Finding>(), new HashSet<string>(StringComparer.Ordinal));
        for (var (i, at) = (0, 0); i < needs.Count; at += ways[i++].Count)
        {
            var refused = Enumerable.Range(at, ways[i].Count).FirstOrDefault(k => answers[k] != 0, -1);
            if (refused < 0 || !told.Add(ways[i][refused - at].Path))
                continue;
            found.Add(Refused(subject, needs[i], ways[i][refused - at], answers[refused]));
        }

        return found;
    }

    private static Finding Refused(Subject subject, Need need, AccessQuestion question, int errno)
    {
        var account = subject.Account!.Name;
        var onTheWay = question.Path != subject.AsAccount.Met(need.Path);
        var seen = onTheWay
            ? $"The account {account} may not {need.What} ({need.Path}): {question.Path} does not let it pass "
                + $"({Names.Errno(errno)})."
            : $"The account {account} may not {need.What}: {need.Path} refuses it ({Names.Errno(errno)}).";
        // Behind a link it is the way to what it leads to that is closed: rights to the link's own folder would change nothing.
        var real = Folders.Real(need.Path);
        var leads = onTheWay && real != need.Path && !Folders.Above(need.Path).Contains(question.Path);
        var met = leads ? real : need.Path;
        var folder = Directory.Exists(met) ? met : Path.GetDirectoryName(met)!;
        var mend =
            leads && IsInAHome(real) ? OutOfTheHome(need.Path, real)
            : need.Code == FindingCode.CommandUnusable && !File.Exists(need.Path) ? "Put it there, or name another."
            : question.Right == 'x' && !onTheWay && File.Exists(need.Path)
                ? $"Give everybody the right to execute it: chmod a+x {CommandLine.Typed(need.Path)}."
            : subject.Tools.WhyHosts(Folders.Real(folder)) is { } why
                ? $"It is not for an account to change: {why}. Put the program's files into a folder of its own, such as /srv/{subject.Definition.Name}."
            : $"calm account grant {account} {CommandLine.Typed(folder)}{(need.Right == 'w' ? "" : " --read")}";
        if (HostsOwn(subject.Definition.Program, need.Path) is { } own)
            mend =
                $"Take the host's own interpreter rather than one in somebody's home: --with {CommandLine.Typed(own)}\n"
                + $"Or open that home's folder: {mend}";
        var reason = need.Severity switch
        {
            Severity.Blocks => "By hand it works for you, because you are another account.",
            _ when need.Code == FindingCode.CommandUnusable =>
                "It is run as the account when its time comes, and would not come to run.",
            Severity.Risk => "It is among its arguments; it will want to read it.",
            _ => "If it writes files beside itself, that will fail. Its state directory is always its own to write.",
        };
        return new(need.Code, need.Severity, seen, reason, mend);
    }

    /// <summary>What to do about a link that leads into somebody's home, which is not to be opened.</summary>
    private static string OutOfTheHome(string link, string real)
    {
        var environment = Path.GetDirectoryName(Path.GetDirectoryName(link));
        return File.Exists(Path.Combine(environment ?? "/", "pyvenv.cfg"))
            ? $"{link} leads to {real}, in somebody's home. Make the environment anew with the host's own: /usr/bin/python3 -m venv "
                + $"--clear {CommandLine.Typed(environment!)}, and install what it had."
            : $"{link} leads to {real}, in somebody's home. Put that into a folder of its own, such as /srv, and let the link lead there.";
    }

    /// <summary>Where its interpreter lies in somebody's home: another for the same script, of the host's own; or null.</summary>
    private static string? HostsOwn(ProgramPart program, string refused) =>
        program.With == refused && IsInAHome(refused)
            ? Interpreters
                .For(program.Path, [])
                .Select(candidate => candidate.Path)
                .FirstOrDefault(path => !IsInAHome(path) && !IsInAHome(Folders.Real(path)))
            : null;

    private static bool IsInAHome(string path) =>
        path.StartsWith("/home/", StringComparison.Ordinal) || path.StartsWith("/root/", StringComparison.Ordinal);

    /// <summary>Arguments that name files that are there.</summary>
    private static IEnumerable<string> FilesAmong(ProgramPart program, string directory) =>
        program
            .Arguments.Select(argument =>
                argument.StartsWith('-') && argument.Contains('=', StringComparison.Ordinal)
                    ? argument[(argument.IndexOf('=', StringComparison.Ordinal) + 1)..]
                    : argument
            )
            .Where(argument =>
                argument.Length is > 0 and < 4096
                && (
                    argument.Contains('/', StringComparison.Ordinal) || argument.Contains('.', StringComparison.Ordinal)
                )
                && !argument.Contains("://", StringComparison.Ordinal)
            )
            .Select(argument => Path.GetFullPath(argument, directory))
            .Where(File.Exists)
            .Distinct();
}
