using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Programs;

namespace CalmSentry.Inspection.Checks;

/// <summary>
/// The modules a script asks for at its top level: its own interpreter, as the account and in the directory, is asked
/// where
/// it would find each. The script is read, not run.
/// </summary>
internal static class ModuleChecks
{
    private const int MostRead = 256 * 1024;

    private const string Python = """
        import ast, importlib.util, sys
        path = sys.argv[1]
        import os
        sys.path[0] = os.path.dirname(os.path.abspath(path))
        try:
            tree = ast.parse(open(path, 'rb').read(), path)
        except SyntaxError as error:
            print('!line %s: %s' % (error.lineno, error.msg)); sys.exit()
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

    private const string JavaScript = """
        const { createRequire, isBuiltin } = require('node:module');
        const from = createRequire(process.argv[1]);
        for (const name of process.argv.slice(2)) {
          if (isBuiltin(name)) continue;
          try { from.resolve(name.replace(/^file:\/\//, '')); }
          catch (error) { if (error.code === 'MODULE_NOT_FOUND') console.log(name); }
        }
        """;

    private const string Perl =
        "for (@ARGV) { my $f = s{::}{/}gr . '.pm'; print \"$_\\n\" unless grep { -e \"$_/$f\" } @INC }";

    public static async Task<IReadOnlyList<Finding>> Look(Subject subject)
    {
        var program = subject.Definition.Program;
        if (subject.Account is not { } account || !File.Exists(program.Path))
            return [];
        var interpreter =
            program.With
            ?? Interpreters.FirstLine(program.Path)
            ?? (ScriptKind.OfInterpreter(program.Path) is null ? null : program.Path);
        var script = interpreter == program.Path ? ScriptAmong(program.Arguments) : program.Path;
        if (interpreter is null || script is null)
            return [];
        var kind = ScriptKind.OfInterpreter(interpreter);
        if (!Path.IsPathRooted(interpreter))
            interpreter = Interpreters.Best(program.Path)?.Path;
        if (interpreter is null || !File.Exists(interpreter))
            return [];
        var text = Held.Text(Ground.Program, script, MostRead) ?? "";
        string[]? command = kind?.Name switch
        {
            "Python" => [interpreter, "-c", Python, script],
            "JavaScript" when ModuleLooks.OfJavaScript(text) is { Count: > 0 } names =>
            [
                interpreter,
                "-e",
                JavaScript,
                script,
                .. names,
            ],
            "Perl" when ModuleLooks.OfPerl(text) is { Count: > 0 } names => [interpreter, "-e", Perl, .. names],
            _ => null,
        };
        if (command is null)
            return [];
        var environment = LaunchOrder.EnvironmentOf(subject.Definition, account, Checker.Label, subject.Tools.Places);
        var directory = LaunchOrder.DirectoryOf(subject.Definition, subject.Tools.Places);
        if (
            await subject
                .AsAccount.Run(account, subject.Groups, directory, environment, command, AsAccount.Patience)
                .ConfigureAwait(false)
            is not { ExitCode: 0 } said
        )
            return [];
        var missing = said.Output.Split('\n', StringSplitOptions.RemoveEmptyEntries);
        if (missing is [['!', .. var syntax], ..])
        {
            return
            [
                new(
                    FindingCode.ScriptSyntax,
                    Severity.Risk,
                    $"{script}, {syntax}.",
                    $"{interpreter} does not understand the script: it is a mistake in it, or the script is made "
                        + $"for another version.",
                    "Mend the script, or choose another interpreter with --with."
                ),
            ];
        }

        return missing.Length == 0
            ? []
            :
            [
                new(
                    FindingCode.ModuleMissing,
                    Severity.Risk,
                    $"{Path.GetFileName(script)} asks for "
                        + $"{string.Join(", ", missing.Select(name => $"'{name}'"))}, which {interpreter} does "
                        + $"not find as {account.Name}.",
                    "What is installed for you alone (in your home or a virtual environment) is not there "
                        + "for a service.",
                    kind!.Name == "JavaScript"
                        ? $"Install it beside the script: npm install "
                            + $"{string.Join(' ', missing.Select(PackageOf).Distinct())}."
                        : $"Install it for the whole machine, or into a virtual environment beside the script, "
                            + $"and pin that one's interpreter with --with."
                ),
            ];
    }

    private static string? ScriptAmong(IReadOnlyList<string> arguments) =>
        arguments.FirstOrDefault(argument => !argument.StartsWith('-')) is { } first
        && Path.IsPathRooted(first)
        && File.Exists(first)
            ? first
            : null;

    private static string PackageOf(string name) =>
        name.StartsWith('@') ? string.Join('/', name.Split('/').Take(2)) : name.Split('/')[0];
}
