using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Programs;

namespace CalmSentry.Inspection.Checks;

/// <summary>The program's file, its interpreter, and whether this machine can execute them.</summary>
internal static class ProgramChecks
{
    private static readonly string[] ServicePath = ["/usr/local/bin", "/usr/bin", "/bin"];

    private static readonly string[] ShellWords =
    [
        "&",
        "&&",
        "|",
        "||",
        ";",
        "<",
        ">",
        ">>",
        "1>",
        "2>",
        "2>&1",
        "&>",
        ">/dev/null",
        "2>/dev/null",
    ];

    private const string NeverLaunched = "It would not come to run at all.";

    public static IEnumerable<Finding> Look(Definition definition)
    {
        var program = definition.Program;
        if (program.With is { } with)
        {
            if (LaunchWords.Fault(with) is { } fault)
                yield return new(
                    FindingCode.InterpreterMissing,
                    Severity.Blocks,
                    $"As an interpreter: {fault.Words}.",
                    NeverLaunched,
                    $"Name another with --with; 'calm check' lists those there are. Or {fault.Next}."
                );
            if (
                ScriptKind.OfInterpreter(with) is { } speaks
                && ScriptKind.OfFile(program.Path) is { } written
                && speaks != written
                && !(Interpreters.FirstLine(program.Path) is { } first && ScriptKind.OfInterpreter(first) == speaks)
            )
                yield return new(
                    FindingCode.InterpreterOtherLanguage,
                    Severity.Blocks,
                    $"{Path.GetFileName(program.Path)} is {written.Name} by its name, and {with} runs {speaks.Name}.",
                    "It would be read as another language.",
                    Interpreters.Best(program.Path) is { } fits
                        ? $"Leave --with out, or: --with {fits.Path}."
                        : $"Install {written.Commands[0]}, or name it with --with."
                );
            if (!File.Exists(program.Path))
                yield return new(
                    FindingCode.ProgramMissing,
                    Severity.Blocks,
                    $"There is no program at {program.Path}.",
                    "Its interpreter would have nothing to run.",
                    "Give the path where the program's file really is; 'ls -l' shows it."
                );
        }
        else if (LaunchWords.Fault(program.Path) is { } fault)
        {
            yield return new(fault.Code, Severity.Blocks, Sentence(fault.Words), NeverLaunched, Sentence(fault.Next));
        }
        else if (EnvMissing(program.Path) is { } asked)
        {
            yield return new(
                FindingCode.InterpreterMissing,
                Severity.Blocks,
                $"The first line of {program.Path} asks for '{asked}', which is in none of the folders a service "
                    + $"is looked up in (/usr/local/bin, /usr/bin, /bin).",
                "Your own shell finds it elsewhere; a service does not have your PATH.",
                Interpreters.Best(program.Path) is { } other
                    ? $"Pin one: --with {other.Path}."
                    : $"Install {asked} for the whole machine, or pin the one you use: --with followed by what "
                        + $"'command -v {asked}' prints."
            );
        }

        if (program.Arguments.FirstOrDefault(ShellWords.Contains) is { } word)
            yield return new(
                FindingCode.ShellWord,
                Severity.Risk,
                $"Its argument '{word}' means something to a shell; here the program gets it as it is.",
                "No shell stands between: nothing is sent on, put into the background, or joined by it.",
                word.StartsWith('&')
                    ? "Leave it out: a service is in the background anyway."
                    : "Leave it out: what it prints is kept anyway. Or wrap a shell that does the rest: -- /bin/sh -c '…'"
            );
        foreach (var file in new[] { program.With ?? program.Path }.Where(File.Exists))
            if (Machine(file) is { } finding)
                yield return finding;
        if (program.Kind == ProgramKind.Toggles && LaunchWords.Fault(program.Off[0]) is { } stop)
            yield return new(
                FindingCode.OffCommandMissing,
                Severity.Blocks,
                $"As its stop command: {stop.Words}.",
                "It could be switched on, but not off again.",
                Sentence(stop.Next)
            );
    }

    private static Finding? Machine(string file)
    {
        try
        {
            return ElfFile.Read(file) is { IsForThisMachine: false } elf
                ? new(
                    FindingCode.ProgramMachine,
                    Severity.Blocks,
                    $"{file} is made for {elf.MachineName}, this machine is {ElfFile.OwnMachineName}.",
                    NeverLaunched,
                    "Get the program built for this machine."
                )
                : null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null; // said elsewhere
        }
    }

    private static string? EnvMissing(string path) =>
        Interpreters.FirstLine(path) is { } asked
        && !Path.IsPathRooted(asked)
        && !ServicePath.Any(place => File.Exists(Path.Combine(place, asked)))
            ? asked
            : null;

    private static string Sentence(string words) => char.ToUpperInvariant(words[0]) + words[1..] + ".";
}
