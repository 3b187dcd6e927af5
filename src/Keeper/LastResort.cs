using System.Runtime.InteropServices;
using System.Text;
using CalmSentry.Contract;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Native;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>
/// Guard, second and server may all be lost before one of them has begun another. Whichever keeper still has a run then
/// begins a guard, as the last one was begun: what that wrote down says that there is to be one. It lies where nobody wipes it, and
/// counts within one boot; and in the run directory, for keepers of earlier versions and where that disk is full.
/// </summary>
internal static unsafe class LastResort
{
    /// <summary>Milliseconds without a server until it is looked for a guard, and between two looks.</summary>
    public const int Beat = 4000;

    /// <summary>While a guard is wanted: its arguments, an empty text, and its environment.</summary>
    private const string Command = "guard.command";

    private const int Longest = 256 << 10;

    /// <summary>Begins a guard where one should be and none is.</summary>
    /// <param name="place">The keeper's own directory, whether it is still there or not.</param>
    public static void Look(string? place)
    {
        // DIR/run/calm-sentry/services/S1
        if (
            Path.GetDirectoryName(Path.GetDirectoryName(place)) is not { } run
            || !ServerGuard.TryPlaces(run, out var own)
            || Wanted(own) is not { } words
        )
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
        var name = path.Pointer;
        if (Copy(new() { Flags = sameParent }) == 0)
        {
            _ = execve(name, argv, environment);
            _exit(127);
        }

        ServerGuard.Free(argv);
        ServerGuard.Free(environment);
    }

    private static string[]? Wanted(Places places) =>
        Read(Lasting(places)) is [var boot, .. var words] && boot == Machine.BootId
            ? words
            : Read(Path.Combine(places.RunDirectory, Command));

    private static string Lasting(Places places) => Path.Combine(places.Library, Command);

    public static bool IsWanted(Places places) => Wanted(places) is not null;

    public static void WantNot(Places places)
    {
        Records.Remove(Lasting(places));
        Records.Remove(Command);
    }

    public static void Want(Places places, ReadOnlySpan<string> arguments, byte** environment)
    {
        var text = new StringBuilder();
        foreach (var argument in arguments)
            text.Append(argument).Append('\0');
        text.Append('\0');
        for (; *environment is not null; environment++)
            text.Append(Encoding.UTF8.GetString(MemoryMarshal.CreateReadOnlySpanFromNullTerminated(*environment)))
                .Append('\0');
        _ = Records.Write(Command, Encoding.UTF8.GetBytes(text.ToString()));
        _ = Records.Write(Lasting(places), Encoding.UTF8.GetBytes($"{Machine.BootId}\0{text}"));
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
