using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>
/// A process by its descriptor (pidfd_open(2)): its number may go to another when it has ended, this stays its own. Look
/// at it once you hold it, and what you then do is done to the one you looked at.
/// </summary>
public sealed class ProcessHandle : IDisposable
{
    private readonly int descriptor;

    private ProcessHandle(int pid, int descriptor) => (Pid, this.descriptor) = (pid, descriptor);

    public int Pid { get; }

    /// <summary>Null when there is no process of that number any more.</summary>
    public static ProcessHandle? Open(int pid) =>
        pid > 0 && (int)Libc.syscall(Libc.SYS_pidfd_open, pid, 0, 0) is >= 0 and var descriptor
            ? new(pid, descriptor)
            : null;

    /// <summary>Sends a signal. False when the process has ended or is not ours.</summary>
    public bool Signal(int number) => Libc.syscall(Libc.SYS_pidfd_send_signal, descriptor, number, 0, 0) == 0;

    /// <summary>Ends it at once.</summary>
    public bool End() => Signal(Libc.SIGKILL);

    public void Dispose() => _ = Libc.close(descriptor);
}
