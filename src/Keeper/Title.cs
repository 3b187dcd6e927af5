using System.Text;
using CalmSentry.Linux.Processes;
using static CalmSentry.Linux.Native.Libc;

namespace CalmSentry.Keeper;

/// <summary>What whoever looks at this process finds it called.</summary>
internal static unsafe class Title
{
    /// <summary>
    /// Sets what /proc/PID/cmdline shows (proc(5), stat: arg_start and arg_end), where there is room for it. What is over is filled
    /// with NUL.
    /// </summary>
    public static void Set(ReadOnlySpan<string> arguments)
    {
        var from = ProcessFacts.Stat(getpid(), 48);
        var to = ProcessFacts.Stat(getpid(), 49);
        if (from <= 0 || to <= from)
            return;
        var area = new Span<byte>((void*)from, (int)(to - from));
        var title = Encoding.UTF8.GetBytes(string.Join('\0', arguments!));
        if (title.Length >= area.Length)
            return;
        area.Clear();
        title.CopyTo(area);
    }

    /// <summary>
    /// A keeper is found by what comes first; behind it, where the server left room, stands whose run it keeps.
    /// </summary>
    public static void OfKeeper(string runDirectory, string service) =>
        Set(["calm-keeper", "keep", runDirectory.TrimEnd(' '), service]);
}
