using System.Buffers.Text;
using System.Runtime.InteropServices;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Every process of the run. As a child subreaper the keeper inherits each descendant that loses its parent, so "no
/// children left" (ECHILD) proves that the tree has ended; the cgroup, where there is one, ends it in one stroke and
/// still
/// holds it together when the keeper itself is lost.
/// </summary>
internal static unsafe class Tree
{
    /// <summary>
    /// Makes the run's cgroup and opens it; -1 where that is not possible. Each run has a new one: current kernels end
    /// a
    /// child at once that is cloned into a group on which cgroup.kill was ever used.
    /// </summary>
    public static int OpenGroup(byte* path) =>
        mkdir(path, 0x1ED) < 0 && Marshal.GetLastSystemError() != EEXIST
            ? -1
            : open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC, 0);

    public static void EndGroup(byte* path)
    {
        var kill = OpenIn(path, "/cgroup.kill"u8, O_WRONLY);
        if (kill < 0)
            return;
        var one = (byte)'1';
        _ = write(kill, &one, 1);
        _ = close(kill);
    }

    /// <summary>Sends a signal to each process below the keeper, parents before children.</summary>
    public static void Signal(int signal)
    {
        Span<int> first = stackalloc int[256];
        SignalChildren(getpid(), signal, first, 0);
    }

    private static void SignalChildren(int parent, int signal, Span<int> room, int depth)
    {
        if (depth > 64)
            return;
        var path = stackalloc byte[64];
        var text = new Span<byte>(path, 64);
        var at = Put(text, 0, "/proc/"u8);
        at = Put(text, at, parent);
        at = Put(text, at, "/task/"u8);
        at = Put(text, at, parent);
        Put(text, at, "/children\0"u8);
        var file = open(path, O_RDONLY | O_CLOEXEC, 0);
        if (file < 0)
            return;
        var content = stackalloc byte[4096];
        var count = 0;
        nint got;
        var number = 0;
        while ((got = read(file, content, 4096)) > 0)
        {
            for (var i = 0; i < got; i++)
            {
                if (content[i] == ' ')
                {
                    if (count < room.Length)
                        room[count++] = number;
                    number = 0;
                }
                else
                {
                    number = (number * 10) + (content[i] - '0');
                }
            }
        }

        _ = close(file);
        Span<int> below = stackalloc int[64];
        for (var i = 0; i < count; i++)
        {
            _ = kill(room[i], signal);
            if (signal != SIGKILL)
                SignalChildren(room[i], signal, below, depth + 1);
        }
    }

    /// <summary>The number on the line <c>oom_kill N</c> of a file, 0 where there is none.</summary>
    public static long OutOfMemory(byte* path)
    {
        if (path is null)
            return 0;
        var file = open(path, O_RDONLY | O_CLOEXEC, 0);
        if (file < 0)
            return 0;
        var content = stackalloc byte[1024];
        var got = (int)read(file, content, 1024);
        _ = close(file);
        var text = new ReadOnlySpan<byte>(content, Math.Max(0, got));
        var at = text.IndexOf("oom_kill "u8);
        return at >= 0 && Utf8Parser.TryParse(text[(at + 9)..], out long count, out _) ? count : 0;
    }

    /// <summary>Opens <paramref name="file"/>, which begins with a slash, in a directory.</summary>
    public static int OpenIn(byte* directory, ReadOnlySpan<byte> file, int flags)
    {
        var name = MemoryMarshal.CreateReadOnlySpanFromNullTerminated(directory);
        Span<byte> path = new byte[name.Length + file.Length + 1];
        name.CopyTo(path);
        file.CopyTo(path[name.Length..]);
        fixed (byte* pointer = path)
            return open(pointer, flags | O_CLOEXEC, 0);
    }

    private static int Put(Span<byte> into, int at, ReadOnlySpan<byte> text)
    {
        text.CopyTo(into[at..]);
        return at + text.Length;
    }

    private static int Put(Span<byte> into, int at, int number)
    {
        Utf8Formatter.TryFormat(number, into[at..], out var count);
        return at + count;
    }
}
