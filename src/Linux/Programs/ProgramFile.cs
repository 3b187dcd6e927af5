using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Linux.Programs;

/// <summary>What is wrong with a path as a program.</summary>
public enum ProgramFault
{
    None,
    Missing,
    IsDirectory,
    NotAFile,
    NoExecuteRight,
    InterpreterMissing,
    UnknownFormat,
    Unreadable,
}

/// <summary>A program's file, looked at as execve(2) would.</summary>
/// <param name="Interpreter">The interpreter a script names on its <c>#!</c> line, or null.</param>
public sealed record ProgramFile(string Path, ProgramFault Fault, string? Interpreter)
{
    public static ProgramFile Look(string path)
    {
        if (Directory.Exists(path))
            return new(path, ProgramFault.IsDirectory, null);
        if (!File.Exists(path))
            return new(path, ProgramFault.Missing, null);
        try
        {
            if (!FileFacts.IsRegular(path))
                return new(path, ProgramFault.NotAFile, null);
            var mode = File.GetUnixFileMode(path);
            const UnixFileMode anyExecute =
                UnixFileMode.UserExecute | UnixFileMode.GroupExecute | UnixFileMode.OtherExecute;
            if ((mode & anyExecute) == 0)
                return new(path, ProgramFault.NoExecuteRight, null);
            ReadOnlySpan<byte> head = Held.Head(Ground.Program, path, 256);
            if (head.StartsWith("\u007fELF"u8))
                return new(path, ProgramFault.None, null);
            if (!head.StartsWith("#!"u8))
                return new(path, ProgramFault.UnknownFormat, null);
            var end = head.IndexOf((byte)'\n');
            var line = System.Text.Encoding.UTF8.GetString(end < 0 ? head[2..] : head[2..end]).Trim(' ', '\t');
            var interpreter = line.Split(' ', '\t')[0];
            // A carriage return at the line's end (a file edited on Windows) is part of the name for the kernel, so it
            // is here.
            return new(
                path,
                File.Exists(interpreter) ? ProgramFault.None : ProgramFault.InterpreterMissing,
                interpreter
            );
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return new(path, ProgramFault.Unreadable, null);
        }
    }
}
