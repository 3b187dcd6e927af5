namespace CalmSentry.Linux.Files;

/// <summary>A file that was not there before and that nobody but its owner can read or write.</summary>
public static class NewFile
{
    /// <param name="buffer">Bytes gathered before they are written; 0: none.</param>
    /// <param name="mode">Who may read and write it.</param>
    /// <exception cref="IOException">There is something of this name already (open(2), O_EXCL), a link included.</exception>
    public static FileStream Begin(
        string path,
        int buffer = 4096,
        UnixFileMode mode = UnixFileMode.UserRead | UnixFileMode.UserWrite
    ) =>
        new(
            path,
            new FileStreamOptions
            {
                Mode = FileMode.CreateNew,
                Access = FileAccess.Write,
                UnixCreateMode = mode,
                BufferSize = buffer,
            }
        );
}
