using System.Text;
using CalmSentry.Linux.Processes;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>What whoever looks at this process finds it called.</summary>
internal static unsafe class Title
{
    /// <summary>Where arguments lie (proc(5), stat: arg_start and arg_end).</summary>
    private static byte* from;
    private static int room;

    /// <summary>
    /// Sets what /proc/PID/cmdline shows, where there is room for it. What is over is filled with NUL.
    /// </summary>
    public static void Set(ReadOnlySpan<string> arguments)
    {
        if (!Find())
            return;
        var area = new Span<byte>(from, room);
        var title = Encoding.UTF8.GetBytes(string.Join('\0', arguments!));
        if (title.Length >= area.Length)
            return;
        area.Clear();
        title.CopyTo(area);
    }

    /// <summary>Looks where they lie, once; a child of a launch finds it done.</summary>
    public static bool Find()
    {
        if (room == 0)
        {
            from = (byte*)ProcessFacts.Stat(getpid(), 48);
            room = (int)Math.Max(0, ProcessFacts.Stat(getpid(), 49) - (nint)from);
        }

        return from is not null && room > 0;
    }

    /// <summary>
    /// A copy of a keeper, on its way to become a program: whoever looks for keepers passes it over. Nothing is allocated, and nothing
    /// of the keeper itself is changed.
    /// </summary>
    public static void NotKeeper()
    {
        var title = "calm-keeper\0enter\0"u8;
        if (room < title.Length)
            return;
        var area = new Span<byte>(from, room);
        area.Clear();
        title.CopyTo(area);
    }

    /// <summary>
    /// A keeper is found by what comes first; behind it, where the server left room, stands whose run it keeps.
    /// </summary>
    public static void OfKeeper(string runDirectory, string service) =>
        Set(["calm-keeper", "keep", runDirectory.TrimEnd(' '), service]);
}
