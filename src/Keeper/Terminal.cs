using System.Runtime.InteropServices;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// A pseudo-terminal for a program (pty(7), ioctl_tty(2)): the program at one end, its output and the keys pressed at
/// the other.
/// </summary>
internal static unsafe class Terminal
{
    private const nint Get = 0x5401,
        Set = 0x5402,
        TakeControl = 0x540E,
        SetSize = 0x5414,
        OpenPeer = 0x5441,
        Lock = 0x40045431;
    private const uint PostProcess = 1,
        Echo = 8;
    private const int NoControl = 0x100; // O_NOCTTY

    public static bool Open(out int ours, out int theirs)
    {
        theirs = -1;
        fixed (byte* name = "/dev/ptmx"u8)
            ours = open(name, O_RDWR | NoControl, 0);
        if (ours < 0)
            return false;
        var off = 0;
        if (Control(ours, Lock, (nint)(&off)) < 0 || (theirs = Control(ours, OpenPeer, O_RDWR | NoControl)) < 0)
            return false;
        // Its output goes to a file: no line ends made for a screen, and what is typed is not printed.
        var modes = stackalloc uint[16];
        if (Control(theirs, Get, (nint)modes) == 0)
        {
            modes[1] &= ~PostProcess;
            modes[3] &= ~Echo;
            _ = Control(theirs, Set, (nint)modes);
        }

        var size = stackalloc ushort[4] { 40, 132, 0, 0 };
        _ = Control(theirs, SetSize, (nint)size);
        return true;
    }

    /// <summary>The terminal becomes the one that controls the caller's session, which must have none.</summary>
    public static bool Control(int terminal) => Control(terminal, TakeControl, 0) == 0;

    private static int Control(int fd, nint request, nint argument) =>
        (int)syscall(
            RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? SYS_ioctl_arm64 : SYS_ioctl_x64,
            fd,
            request,
            argument
        );
}
