using System.Collections.Immutable;
using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// Whether its own interpreter understands a script, and finds the modules it asks for at its top level: asked as the account, in the
/// directory, without a network. The script is read, not run, but for what Perl runs while it reads (BEGIN blocks, perlmod(1)); what reads
/// it is the interpreter's own, whatever lies in the directory under the same name.
/// </summary>
internal static partial class ModuleChecks
{
    private const int MostRead = 256 * 1024;

    private const string Python = """
        import sys
        looked = sys.path[:]
        own = getattr(sys, 'base_prefix', sys.prefix).rstrip('/') + '/lib'
        sys.path[:] = [place for place in looked if place.startswith(own) and '-packages' not in place]
        import ast, os
        try:
            import importlib.util
        except ImportError:
            importlib = None
        path = sys.argv[1]
        sys.path[:] = [sys.argv[2] if len(sys.argv) > 2 else os.path.dirname(os.path.abspath(path))] + [place for place in looked if place]
        try:
            text = open(path, 'rb').read()
            tree = ast.parse(text, path)
            compile(text, path, 'exec', 0, True)
        except SyntaxError as error:
            print('!line %s: %s' % (error.lineno, error.msg)); sys.exit()
        if importlib is None: sys.exit()
        names = set()
        for node in tree.body:
            if isinstance(node, ast.Import): names.update(alias.name for alias in node.names)
            elif isinstance(node, ast.ImportFrom) and not node.level and node.module: names.add(node.module)
        for name in sorted({name.split('.')[0] for name in names}):
            try:
                found = importlib.util.find_spec(name) is not None
            except Exception:
                found = True
            if not found: print(name)
        """;

    /// <summary>Arguments with which an interpreter says whether it understands a script; null: it cannot be asked so.</summary>
    private static string? Understanding(ScriptKind? kind) =>
        kind?.Name switch
        {
            "JavaScript" => "--check",
            "Perl" or "Ruby" => "-c",
            "PHP" => "-l",
            "shell" => "-n",
            _ => null,
        };

    private const int LongestSaid = 300;

    private const string JavaScript = """
        const { createRequire, isBuiltin } = require('node:module');
        const from = createRequire(process.argv[1]);
        for (const name of process.argv.slice(2)) {
          if (isBuiltin(name)) continue;
          try { from.resolve(name.replace(/^file:\/\//, '')); }
          catch (error) { if (error.code === 'MODULE_NOT_FOUND') console.log(name); }
        }
        """;

    public static async Task<IReadOnlyList<Finding>> Look(Subject subject)
    {
        var program = subject.Definition.Program;
        if (subject.Account is not { } account || !File.Exists(program.Path))
            return [];
        var interpreter =
            program.With
            ?? Interpreters.FirstLine(program.Path)
            ?? (ScriptKind.OfInterpreter(program.Path) is null ? null : program.Path);
        if (interpreter is null)
            return [];
        var kind = ScriptKind.OfInterpreter(interpreter);
        var script = program.Path;
        string? from = null; // where a module run by -m is looked for, and what it asks for
        if (interpreter == program.Path)
        {
            // One that names itself as its own interpreter is none that is known.
            if (kind is null)
                return [];
            var directory = LaunchOrder.DirectoryOf(subject.Definition, subject.Tools.Places);
            if (ModuleAmong(kind, program.Arguments) is { } module)
            {
                if (ModuleFile(directory, module) is not { } file)
                    return [];
                (script, from) = (file, directory);
            }
            else if (kind.ScriptAmong(program.Arguments) is >= 0 and var at)
            {
                var word = program.Arguments[at];
                script = Path.Combine(directory, word);
                if (!File.Exists(script))
                    return kind.IsFile(word) ? [NotThere(word, script, interpreter)] : [];
            }
            else
            {
                return [];
            }
        }

        if (!Path.IsPathRooted(interpreter))
            interpreter = Interpreters.Best(program.Path)?.Path;
        if (interpreter is null || !File.Exists(interpreter))
            return [];
        var text = Held.Text(Ground.Program, script, MostRead) ?? "";
        var (understood, absent) = await Understood(subject, account, kind, interpreter, script).ConfigureAwait(false);
        if (understood is not null)
            return [understood];
        string[]? command = kind?.Name switch
        {
            "Python" => [interpreter, "-c", Python, script, .. from is null ? [] : new[] { from }],
            "JavaScript" when ModuleLooks.OfJavaScript(text) is { Count: > 0 } names =>
            [
                interpreter,
                "-e",
                JavaScript,
                script,
                .. names,
            ],
            _ => null,
        };
        if (command is null)
            return absent is null ? [] : [Missing([absent], kind!, interpreter, script, account, Severity.Blocks)];
        if (await Said(subject, account, command).ConfigureAwait(false) is not { ExitCode: 0 } said)
            return [];
        var missing = said.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        if (missing is [['!', .. var syntax], ..])
        {
            return
            [
                new(
                    FindingCode.ScriptSyntax,
                    Severity.Blocks,
                    $"{script}, {syntax}.",
                    $"{interpreter} does not understand the script: it is a mistake in it, or the script is made "
                        + $"for another version.",
                    "Mend the script, or choose another interpreter with --with."
                ),
            ];
        }

        // Where a script changes where modules are looked for, it may well find them.
        var looksElsewhere =
            text.Contains("sys.path", StringComparison.Ordinal)
            || text.Contains("addsitedir", StringComparison.Ordinal)
            || text.Contains("module.paths", StringComparison.Ordinal);
        return missing.Length == 0
            ? []
            : [Missing(missing, kind!, interpreter, script, account, looksElsewhere ? Severity.Risk : Severity.Blocks)];
    }

    /// <summary>The module that Python is told to run by <c>-m</c>; null: none.</summary>
    private static string? ModuleAmong(ScriptKind kind, ImmutableArray<string> arguments)
    {
        var at = kind.Name == "Python" ? arguments.TakeWhile(word => word.StartsWith('-') && word != "-m").Count() : -1;
        return at >= 0 && at + 1 < arguments.Length && arguments[at] == "-m" ? arguments[at + 1] : null;
    }

    /// <summary>Its file, where it is one of the program's own and not of the interpreter's; null: it is none.</summary>
    private static string? ModuleFile(string directory, string module)
    {
        var path = Path.Combine(directory, module.Replace('.', '/'));
        return ((string[])[path + ".py", Path.Combine(path, "__main__.py")]).FirstOrDefault(File.Exists);
    }

    private static Finding Missing(
        IReadOnlyList<string> missing,
        ScriptKind kind,
        string interpreter,
        string script,
        Account account,
        Severity severity
    ) =>
        new(
            FindingCode.ModuleMissing,
            severity,
            $"{Path.GetFileName(script)} asks for {string.Join(", ", missing.Select(name => $"'{name}'"))}, which {interpreter} does "
                + $"not find as {account.Name}.",
            "What is installed for you alone (in your home or a virtual environment) is not there for a service.",
            HowToGet(missing, kind, interpreter, Path.GetDirectoryName(script) ?? "/")
        );

    /// <summary>The command that gets modules for just that interpreter.</summary>
    private static string HowToGet(IReadOnlyList<string> missing, ScriptKind kind, string interpreter, string folder)
    {
        var names = string.Join(
            ' ',
            missing.Where(name => !name.StartsWith('.') && !name.StartsWith('/')).Select(PackageOf).Distinct()
        );
        var bin = Path.GetDirectoryName(interpreter) ?? "/";
        var isHosts = bin is "/usr/bin" or "/bin";
        return (kind.Name, names) switch
        {
            (_, "") => "Put the file there that it asks for.",
            ("JavaScript", _) => $"npm --prefix {CommandLine.Quoted(folder)} install {names}",
            // The host's own Python is its package manager's (PEP 668).
            ("Python", _) when isHosts =>
                $"{interpreter} -m venv {CommandLine.Quoted(folder + "/venv")} && {CommandLine.Quoted(folder + "/venv/bin/pip")} install {names}   then --with {CommandLine.Quoted(folder + "/venv/bin/python")}; "
                    + $"or the host's package, mostly called python3-{names.Split(' ')[0].ToLowerInvariant()}",
            ("Python", _) => $"{CommandLine.Quoted(interpreter)} -m pip install {names}",
            ("Perl", _) => (
                isHosts
                    ? $"apt-get install lib{names.Split(' ')[0].Replace("::", "-", StringComparison.Ordinal).ToLowerInvariant()}-perl   or "
                    : ""
            ) + $"{CommandLine.Quoted(bin + "/cpan")} {names}",
            _ => $"Install it for {interpreter}, for the whole machine.",
        };
    }

    /// <summary>Whether the interpreter understands the script, by its own word.</summary>
    /// <returns>What it does not; and of Perl a module that it did not find, which it says at the first.</returns>
    private static async Task<(Finding? Syntax, string? Absent)> Understood(
        Subject subject,
        Account account,
        ScriptKind? kind,
        string interpreter,
        string script
    )
    {
        if (
            Understanding(kind) is not { } flag
            || await Said(subject, account, [interpreter, flag, script], executes: kind!.Name == "Perl")
                .ConfigureAwait(false)
                is not { ExitCode: not 0 } said
        )
            return default;
        var all = said.Error + "\n" + said.Output;
        if (AbsentModule().Match(all) is { Success: true } absent)
            return (null, absent.Groups["name"].Value.Replace("/", "::", StringComparison.Ordinal));
        var lines = all.Split('\n', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries);
        if (
            Array.Find(lines, line => Mistake().IsMatch(line)) is not { } mistake
            && Array.Find(lines, line => line.Contains("had compilation errors", StringComparison.Ordinal)) is null
        )
            return default;
        mistake = Array.Find(lines, line => Mistake().IsMatch(line)) ?? lines[0];
        var where =
            kind!.Name == "JavaScript" && !lines[0].Contains("Error", StringComparison.Ordinal) ? $"{lines[0]}: " : "";
        return (
            new(
                FindingCode.ScriptSyntax,
                // A shell reads line by line: it may never come to where the mistake is.
                kind.Name == "shell"
                    ? Severity.Risk
                    : Severity.Blocks,
                $"{script}: {Core.Text.Shown.Line((where + mistake)[..Math.Min(LongestSaid, (where + mistake).Length)]).TrimEnd('.')}.",
                $"{interpreter} {flag} says so, as {account.Name}"
                    + (kind.Name == "Perl" ? "; what is in BEGIN blocks was run for that, without a network." : ".")
                    + " It is a mistake in the script, or the script is made for another version.",
                "Mend the script, or choose another interpreter with --with."
            ),
            null
        );
    }

    [GeneratedRegex(@"syntax ?error|parse error|unexpected|requires explicit package name", RegexOptions.IgnoreCase)]
    private static partial Regex Mistake();

    [GeneratedRegex(@"Can't locate (?<name>[A-Za-z0-9_/]{1,200})\.pm in @INC")]
    private static partial Regex AbsentModule();

    private static Task<(int ExitCode, string Output, string Error)?> Said(
        Subject subject,
        Account account,
        IReadOnlyList<string> command,
        bool executes = false
    ) =>
        subject
            .AsAccount.Offline(required: executes)
            .Run(
                account,
                subject.Groups,
                LaunchOrder.DirectoryOf(subject.Definition, subject.Tools.Places),
                LaunchOrder.EnvironmentOf(subject.Definition, account, Checker.Label, subject.Tools.Places),
                command,
                AsAccount.Patience
            );

    private static Finding NotThere(string word, string script, string interpreter) =>
        new(
            FindingCode.ProgramMissing,
            Severity.Blocks,
            word == script
                ? $"There is no script at {script}."
                : $"The script {word} is looked for in the service's own directory, and {script} is not there.",
            $"{interpreter} would have nothing to run.",
            word == script
                ? "Give the path where the script's file really is; 'ls -l' shows it."
                : "Give its whole path, or the directory it is in: --directory DIRECTORY."
        );

    private static string PackageOf(string name) =>
        name.StartsWith('@') ? string.Join('/', name.Split('/').Take(2))
        : name.Contains("::", StringComparison.Ordinal) ? name
        : name.Split('/', '.')[0];
}
