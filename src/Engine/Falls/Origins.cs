using CalmSentry.Core.Definitions;
using CalmSentry.Core.Runs;
using CalmSentry.Engine.Keepers;
using CalmSentry.Linux.Boot;

namespace CalmSentry.Engine.Falls;

/// <summary>What a launch is made from, as the host has it now.</summary>
internal static class Origins
{
    public static RunOrigin Of(Definition definition, int revision) =>
        new(
            revision,
            Machine.BootId,
            [
                FileAt(OriginRole.Program, definition.Program.Path),
                .. InterpreterOf(definition.Program) is { } interpreter
                    ? [FileAt(OriginRole.Interpreter, interpreter)]
                    : Array.Empty<OriginFile>(),
            ]
        );

    private static readonly string[] HostPath = ["/usr/local/bin", "/usr/bin", "/bin"];

    private static string? InterpreterOf(ProgramPart program)
    {
        if (program.With is { } with)
            return with;
        var asked = Interpreters.FirstLine(program.Path);
        return asked is null || Path.IsPathRooted(asked)
            ? asked
            : HostPath.Select(folder => Path.Combine(folder, asked)).FirstOrDefault(File.Exists);
    }

    private static OriginFile FileAt(OriginRole role, string path)
    {
        var file = new FileInfo(path);
        try
        {
            // An upgraded interpreter often is another file behind the same link.
            var real = file.ResolveLinkTarget(returnFinalTarget: true) as FileInfo ?? file;
            return real.Exists
                ? new(role, real.FullName, real.Length, real.LastWriteTimeUtc)
                : new(role, path, null, null);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return new(role, path, null, null);
        }
    }
}
