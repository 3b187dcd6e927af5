using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>A lock the kernel holds for as long as its owner lives (flock(2)).</summary>
public sealed class FileLock : IDisposable
{
    private readonly int file;

    private FileLock(int file) => this.file = file;

    /// <summary>Takes the lock, or null when another process has it.</summary>
    public static unsafe FileLock? TryTake(string path)
    {
        using var text = new CString(path);
        var file = Libc.open(text.Pointer, Libc.O_RDWR | Libc.O_CREAT | Libc.O_CLOEXEC, 0x180);
        if (file >= 0 && Libc.flock(file, Libc.LOCK_EX | Libc.LOCK_NB) == 0)
            return new FileLock(file);
        if (file >= 0)
            _ = Libc.close(file);
        return null;
    }

    public void Dispose() => _ = Libc.close(file);
}
