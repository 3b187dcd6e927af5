using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Linux.Native;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Guard, second and server may all be lost before one of them has begun another. Whichever keeper still has a run then
/// begins a guard, as the last one was begun: what that wrote down in the run directory says that there is to be one.
/// </summary>
internal static unsafe class LastResort
{
    /// <summary>Milliseconds without a server until it is looked for a guard, and between two looks.</summary>
    public const int Beat = 5000;

    /// <summary>In the run directory, while a guard is wanted: its arguments, an empty text, and its environment.</summary>
    public const string Command = "guard.command";

    private const int Longest = 256 << 10;

    /// <summary>Begins a guard where one should be and none is. From a keeper's own directory.</summary>
    public static void Look()
    {
        if (Read(Path.Combine("..", "..", Command)) is not { } words)
            return;
        var end = Array.IndexOf(words, "");
        if (end < 2 || !ServerGuard.TryPlaces(words[0], out var places) || IsGuarded(places))
            return;
        var keeper = Path.Combine(Path.GetDirectoryName(words[1]) ?? "/", "calm-keeper");
        var argv = ServerGuard.Texts(["calm-keeper", "guard", .. words.AsSpan(0, end)]);
        var environment = ServerGuard.Texts(words.AsSpan(end + 1));
        using var path = new CString(keeper);
        // As a child of the keeper's own parent: below the keeper it would be taken for a process of its program's.
        const ulong sameParent = 0x8000;
        var clone = new CloneArgs { Flags = sameParent };
        var name = path.Pointer;
        if ((int)syscall(SYS_clone3, (nint)(&clone), sizeof(CloneArgs), 0) == 0)
        {
            _ = execve(name, argv, environment);
            _exit(127);
        }

        ServerGuard.Free(argv);
        ServerGuard.Free(environment);
    }

    public static void Want(ReadOnlySpan<string> arguments, byte** environment)
    {
        var text = new StringBuilder();
        foreach (var argument in arguments)
            text.Append(argument).Append('\0');
        text.Append('\0');
        for (; *environment is not null; environment++)
            text.Append(Encoding.UTF8.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(*environment)))
                .Append('\0');
        Records.Write(Command, Encoding.UTF8.GetBytes(text.ToString()));
    }

    private static bool IsGuarded(Places places)
    {
        using var name = new CString(places.GuardLock);
        var file = open(name.Pointer, O_RDWR | O_CLOEXEC, 0);
        if (file < 0)
            return true; // nobody has ever guarded, or its place is out of reach: it is looked again
        var free = flock(file, LOCK_EX | LOCK_NB) == 0;
        _ = close(file);
        return !free;
    }

    private static string[]? Read(string path)
    {
        try
        {
            using var file = File.OpenRead(path);
            if (file.Length > Longest)
                return null;
            var bytes = new byte[file.Length];
            file.ReadExactly(bytes);
            var words = Encoding.UTF8.GetString(bytes).Split('\0');
            return words.Length < 2 ? null : words[..^1]; // each is closed by NUL
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }
}
