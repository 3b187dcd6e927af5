using System.Runtime.InteropServices;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Carries the program's output into its file. Nothing is dropped: when the file takes no more (a full disk), the bytes read
/// are kept, the pipes are left unread, and the program waits as soon as they are full; once a second it is tried again.
/// </summary>
internal sealed unsafe class Pump
{
    private const int Chunk = 65536;

    private readonly byte* buffer = (byte*)NativeMemory.Alloc(Chunk);
    private int pendingFrom, pendingTo;
    private int file = -1;

    /// <summary>errno of the last write that failed, 0 while output flows.</summary>
    public int Stuck { get; private set; }

    /// <summary>Takes the output file for a run. False, with errno set, when there is no room on its disk.</summary>
    public bool Open(byte* path)
    {
        Close();
        file = open(path, O_WRONLY | O_APPEND | O_CREAT | O_CLOEXEC, 0x1A0); // 0640
        if (file < 0) return false;
        // A file can be made on a full disk but not written: find that out before the program runs.
        var end = lseek(file, 0, 2);
        if (fallocate(file, FALLOC_FL_KEEP_SIZE, end, Chunk) == 0 || Marshal.GetLastSystemError() != ENOSPC) return true;
        Close();
        Marshal.SetLastSystemError(ENOSPC);
        return false;
    }

    public void Close()
    {
        if (file >= 0) _ = close(file);
        file = -1;
        pendingFrom = pendingTo = Stuck = 0;
    }

    /// <summary>Moves what is there. False when the pipe has ended.</summary>
    public bool Carry(int pipe, int rounds = 32)
    {
        while (rounds-- > 0 && Retry())
        {
            var got = read(pipe, buffer, Chunk);
            if (got == 0) return false;
            if (got < 0) return Marshal.GetLastSystemError() is EAGAIN or EINTR;
            pendingFrom = 0;
            pendingTo = (int)got;
            if (!Retry() || got < Chunk) return true;
        }

        return true;
    }

    /// <summary>Writes what is pending. True when nothing is left of it.</summary>
    public bool Retry()
    {
        while (pendingFrom < pendingTo)
        {
            var put = write(file, buffer + pendingFrom, pendingTo - pendingFrom);
            if (put < 0)
            {
                var errno = Marshal.GetLastSystemError();
                if (errno == EINTR) continue;
                Stuck = errno;
                return false;
            }

            pendingFrom += (int)put;
        }

        Stuck = 0;
        return true;
    }

    /// <summary>Last words of a run: whatever the pipe still holds. Returns the bytes that found no room.</summary>
    public long Drain(int pipe)
    {
        if (pipe < 0) return 0;
        _ = Retry(); // there may be room since the last try
        while (Stuck == 0 && Carry(pipe, 1))
            if (!More(pipe)) return 0;
        if (Stuck == 0) return 0;
        long unwritten = pendingTo - pendingFrom;
        pendingFrom = pendingTo = 0;
        nint got;
        while ((got = read(pipe, buffer, Chunk)) > 0) unwritten += got;
        return unwritten;
    }

    private static bool More(int pipe)
    {
        var ready = new PollFd { Fd = pipe, Events = POLLIN };
        return poll(&ready, 1, 0) > 0;
    }
}
