using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Foreign;

/// <summary>
/// What may still be written to a disk: counted while it is written, for a file may have grown since it was measured, and
/// others write, too. A twentieth of the disk, at most 256 MiB, stays free, as it does for output.
/// </summary>
/// <param name="on">A directory on it.</param>
/// <param name="most">Bytes at most, whatever room there is.</param>
public sealed unsafe class DiskRoom(Held on, long most, CancellationToken gone = default)
{
    private readonly long most = most;

    private const long LargestReserve = 256L << 20,
        Beat = 16L << 20;
    private const int Share = 20;

    private readonly Lock counting = new();
    private long taken,
        looked;

    /// <summary>Bytes that may be written now, by the disk's word (fstatfs(2)).</summary>
    public long Free()
    {
        var facts = stackalloc long[16];
        using var path = new CString(on.Path);
        if (Libc.statfs(path.Pointer, (byte*)facts) < 0)
            return long.MaxValue;
        var (block, all, available) = (facts[1], facts[2], facts[4]);
        return all <= 0 || block <= 0
            ? long.MaxValue // a file system that does not count
            : (available * block) - Math.Min(LargestReserve, all / Share * block);
    }

    /// <summary>Takes room for bytes that are about to be written.</summary>
    /// <exception cref="NoRoomException">There is none.</exception>
    /// <exception cref="OperationCanceledException">It was called off.</exception>
    public void Take(long bytes)
    {
        gone.ThrowIfCancellationRequested();
        lock (counting)
        {
            if ((taken += bytes) > most)
                throw new NoRoomException($"all files together have more than {most} bytes");
            if ((looked -= bytes) > 0)
                return;
            if (Free() is var free && free < bytes)
                throw new NoRoomException("the disk is full but for what is kept free of it");
            looked = Math.Min(Beat, free - bytes);
        }
    }
}

/// <summary>A disk has no room for what was to be written; in words, as a clause.</summary>
public sealed class NoRoomException(string message) : IOException(message);
