using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Linux.Native;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Programs;

namespace CalmSentry.Engine.Keepers;

/// <summary>Why a program cannot be launched, said so that an administrator knows what to mend.</summary>
internal static class LaunchWords
{
    /// <summary>EWOULDBLOCK (errno(3)): of a lock, another has it.</summary>
    public const int WouldBlock = 11;

    private const int NoEntry = 2,
        NoPermission = 1,
        NoAccess = 13,
        BadFormat = 8,
        NoSpace = 28;

    /// <summary>The failed step of a launch, as a sentence without its full stop.</summary>
    public static string Of(LaunchStep step, int errno, Definition definition, string directory, string output)
    {
        var error = Names.Errno(errno);
        return step switch
        {
            LaunchStep.Lock when errno == WouldBlock =>
                "another keeper still has this service; look for a second sentry on the same root",
            LaunchStep.Output when errno == NoSpace =>
                $"there is no room left for its output in {Path.GetDirectoryName(output)}: {error}; free some "
                    + $"space there",
            LaunchStep.Output => $"its output file {output} cannot be written: {error}",
            LaunchStep.Clone => $"the host gave no new process: {error}",
            LaunchStep.Groups or LaunchStep.Group or LaunchStep.Account =>
                $"it may not change to the account {definition.Account}: {error}; a sentry that runs as root may",
            LaunchStep.Directory when errno == NoEntry =>
                $"its directory {directory} is not there; make it, or set another with --directory",
            LaunchStep.Directory => $"the account {definition.Account} cannot enter its directory {directory}: {error}",
            LaunchStep.Ceilings =>
                $"it could not be put under its ceilings for memory, processors or processes: {error}",
            LaunchStep.Terminal => $"it could not be given a terminal: {error}; /dev/ptmx and /dev/pts must be there",
            LaunchStep.Priority => $"its priority cannot be set: {error}; only root may raise one",
            LaunchStep.Processors =>
                $"it cannot be bound to its processors: {error}; this machine has {Environment.ProcessorCount}",
            LaunchStep.OpenFiles =>
                $"it cannot be allowed that many open files: {error}; this sentry itself may have at most "
                    + $"{ProcessFacts.OpenFilesCeiling()}",
            LaunchStep.LowPorts =>
                $"it could not be given the right to open low ports: {error}; only a sentry that runs as root can",
            LaunchStep.Enter =>
                $"the process that was to become it {Ended(new(errno))} before it could, as where the host gives no more "
                    + $"processes or memory",
            LaunchStep.Sockets =>
                $"it could not be given a folder of its own for the sockets of its display: {error}; {LaunchField.DisplaySockets} must be a "
                    + $"folder of root's",
            LaunchStep.Alone => "the sentry fell before its keeper could carry the order out",
            LaunchStep.Execute => Execute(errno, definition, error),
            _ => $"the step '{step.ToString().ToLowerInvariant()}' failed: {error}",
        };
    }

    private static string Ended(WaitStatus status) =>
        status.Signal != 0 ? $"was killed by signal {status.Signal}" : $"ended with exit code {status.ExitCode}";

    /// <summary>What is wrong with a program's file, with its code; null when nothing is.</summary>
    public static (FindingCode Code, string Words, string Next)? Fault(string path)
    {
        var file = ProgramFile.Look(path);
        return file.Fault switch
        {
            ProgramFault.Missing => (
                FindingCode.ProgramMissing,
                $"there is no program at {path}",
                "give the path where the program's file really is; 'ls -l' shows it"
            ),
            ProgramFault.IsDirectory => (
                FindingCode.ProgramIsDirectory,
                $"{path} is a directory, not a program",
                "name the program's file inside it"
            ),
            ProgramFault.NotAFile => (
                FindingCode.ProgramNotAFile,
                $"{path} is a device, not a program",
                "name a program's file"
            ),
            ProgramFault.NoExecuteRight => (
                FindingCode.ProgramNotExecutable,
                $"{path} has no execute right",
                $"give it the right with 'chmod +x {CommandLine.Typed(path)}', or put its interpreter first: -- /usr/bin/python3 {CommandLine.Typed(path)}"
            ),
            ProgramFault.InterpreterMissing when file.Interpreter!.EndsWith('\r') => (
                FindingCode.InterpreterMissing,
                $"the first line of {path} ends with a Windows line end, so its interpreter "
                    + $"'{file.Interpreter.TrimEnd('\r')}' is not found",
                $"save the file with Unix line ends: sed -i 's/\\r$//' {path}"
            ),
            ProgramFault.InterpreterMissing => (
                FindingCode.InterpreterMissing,
                $"the script {path} asks for the interpreter {file.Interpreter}, which is not there",
                $"install it, or mend the first line of {path}"
            ),
            ProgramFault.UnknownFormat => (
                FindingCode.ProgramFormat,
                $"{path} is neither a program for this machine nor a script that begins with #!",
                $"put its interpreter first: -- /bin/sh {path}"
            ),
            _ => null,
        };
    }

    /// <summary>Whether the kernel cannot execute the file by itself, though an interpreter might.</summary>
    public static bool NeedsInterpreter(string path) =>
        ProgramFile.Look(path).Fault is ProgramFault.NoExecuteRight or ProgramFault.UnknownFormat
        && (Interpreters.FirstLine(path) is not null || ScriptKind.OfFile(path) is not null);

    private static string Execute(int errno, Definition definition, string error)
    {
        var path = definition.Program.With ?? definition.Program.Path;
        if (Fault(path) is { } fault)
            return fault.Words;
        return errno switch
        {
            NoAccess or NoPermission =>
                $"the account {definition.Account} may not execute {path}: it, its interpreter or a folder above "
                    + $"it lacks the right ({error})",
            NoEntry => $"{path} is there, but the loader or interpreter it needs is not ({error})",
            BadFormat => $"{path} is not made for this machine ({error})",
            _ => $"{path} cannot be executed: {error}",
        };
    }
}
