namespace CalmSentry.Linux.Files;

/// <summary>Directories that nobody but the sentry's own account looks into (mode 700).</summary>
public static class OwnDirectory
{
    public const UnixFileMode Mode = UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute;

    /// <summary>Makes it where it is not there yet, and those it lies in.</summary>
    /// <exception cref="IOException">It cannot be made.</exception>
    /// <exception cref="UnauthorizedAccessException">This account may not make it.</exception>
    public static DirectoryInfo Make(string path) => Directory.CreateDirectory(path, Mode);
}
