using System.Runtime.InteropServices;
using CalmSentry.Contract.Keeper;
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
        SetSize = 0x5414,
        OpenPeer = 0x5441,
        Lock = 0x40045431;
    private const uint PostProcess = 1,
        Echo = 8,
        Utf8 = 0x4000;
    private const int NoControl = 0x100; // O_NOCTTY

    /// <param name="size">For people, of this size; null: for a file, of a usual one.</param>
    public static bool Open(TerminalSize? size, out int ours, out int theirs)
    {
        theirs = -1;
        fixed (byte* name = "/dev/ptmx"u8)
            ours = open(name, O_RDWR | NoControl, 0);
        if (ours < 0)
            return false;
        var off = 0;
        if (Control(ours, Lock, (nint)(&off)) < 0 || (theirs = Control(ours, OpenPeer, O_RDWR | NoControl)) < 0)
            return false;
        var modes = stackalloc uint[16];
        if (Control(theirs, Get, (nint)modes) == 0)
        {
            if (size is null)
            {
                // Its output goes to a file: no line ends made for a screen, and what is typed is not printed.
                modes[1] &= ~PostProcess;
                modes[3] &= ~Echo;
            }
            else
                modes[0] |= Utf8; // what is erased while typing are characters
            _ = Control(theirs, Set, (nint)modes);
        }

        _ = Resize(theirs, size ?? new(132, 40));
        return true;
    }

    /// <summary>The program is told (SIGWINCH).</summary>
    public static bool Resize(int terminal, TerminalSize size)
    {
        var all = stackalloc ushort[4] { (ushort)size.Rows, (ushort)size.Columns, 0, 0 };
        return Control(terminal, SetSize, (nint)all) == 0;
    }

    private static int Control(int fd, nint request, nint argument) =>
        (int)syscall(
            RuntimeInformation.ProcessArchitecture == Architecture.Arm64 ? SYS_ioctl_arm64 : SYS_ioctl_x64,
            fd,
            request,
            argument
        );
}
