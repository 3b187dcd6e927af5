using System.Runtime.InteropServices;
using CalmSentry.Cli.Wire;

namespace CalmSentry.Cli.Terminals;

/// <summary>
/// The caller's own terminal while it shows another: each key comes as it is typed, and nothing is echoed (termios(3)). Disposed, it
/// is as it was before.
/// </summary>
internal sealed unsafe partial class Keyboard : IDisposable
{
    private const int Attributes = 128, // more than a struct termios has
        AfterOutput = 1, // TCSADRAIN
        Typed = 0; // TCIFLUSH
    private readonly byte[] before = new byte[Attributes];
    private readonly PosixSignalRegistration[] ends;
    private int restored;

    private Keyboard(byte[] was)
    {
        before = was;
        // Whoever ends this program, its terminal is given back.
        ends =
        [
            .. new[] { PosixSignal.SIGTERM, PosixSignal.SIGHUP, PosixSignal.SIGINT }.Select(signal =>
                PosixSignalRegistration.Create(signal, _ => Restore())
            ),
        ];
    }

    /// <exception cref="Failure">There is no terminal at both ends.</exception>
    public static Keyboard Take()
    {
        var was = new byte[Attributes];
        fixed (byte* at = was)
            if (tcgetattr(0, at) < 0 || Console.IsOutputRedirected)
                throw new Failure(
                    Exit.Usage,
                    "A terminal can be joined only from a terminal, with its keyboard and its screen; nothing was done.",
                    "calm output NAME --follow shows what it prints."
                );
        var taken = new Keyboard(was);
        var raw = (byte[])was.Clone();
        fixed (byte* at = raw)
        {
            cfmakeraw(at);
            _ = tcsetattr(0, AfterOutput, at);
        }

        return taken;
    }

    /// <summary>What was typed; 0: nobody is there any more.</summary>
    public static int Read(Span<byte> room)
    {
        fixed (byte* at = room)
            while (true)
            {
                var got = read(0, at, room.Length);
                if (got >= 0 || Marshal.GetLastPInvokeError() != 4) // EINTR
                    return (int)Math.Max(0, got);
            }
    }

    private void Restore()
    {
        if (Interlocked.Exchange(ref restored, 1) != 0)
            return;
        _ = tcflush(0, Typed); // what the terminal answered to a question of the program is no command
        fixed (byte* at = before)
            _ = tcsetattr(0, AfterOutput, at);
    }

    public void Dispose()
    {
        Restore();
        foreach (var one in ends)
            one.Dispose();
    }

    [LibraryImport("libc", SetLastError = true)]
    private static partial int tcgetattr(int descriptor, byte* attributes);

    [LibraryImport("libc")]
    private static partial int tcsetattr(int descriptor, int when, byte* attributes);

    [LibraryImport("libc")]
    private static partial void cfmakeraw(byte* attributes);

    [LibraryImport("libc")]
    private static partial int tcflush(int descriptor, int which);

    [LibraryImport("libc", SetLastError = true)]
    private static partial nint read(int descriptor, byte* room, nint count);
}
