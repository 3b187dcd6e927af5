using System.Globalization;

namespace CalmSentry.Linux.Processes;

/// <summary>How a process does at one moment (proc(5), stat and statm).</summary>
/// <param name="State">R, S, D, T (stopped by a signal), t (by a debugger), Z, X …</param>
/// <param name="Ticks">Processor time so far, hundredths of a second, with that of children it has collected.</param>
/// <param name="OwnBytes">Resident memory that is its own.</param>
public readonly record struct ProcessVitals(char State, long Ticks, long OwnBytes)
{
    /// <summary>Ticks of /proc in a second: fixed in the kernel's interface to programs (USER_HZ).</summary>
    public const int TicksPerSecond = 100;

    /// <summary>
    /// State and processor time out of /proc/PID/stat. A process may name itself as it likes, with brackets and line
    /// ends: what counts comes after the last bracket.
    /// </summary>
    internal static (char State, long Ticks)? Read(string stat)
    {
        var after = stat.LastIndexOf(')');
        if (after < 0 || after + 2 > stat.Length)
            return null;
        var fields = stat[(after + 2)..].Split(' ');
        if (fields.Length < 15 || fields[0].Length != 1)
            return null;
        var ticks = 0L;
        // Fields 14 to 17 of proc(5): user, system, and both of collected children.
        foreach (var text in fields[11..15])
        {
            if (!long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var some))
                return null;
            ticks = unchecked(ticks + some);
        }

        return (fields[0][0], ticks);
    }

    /// <returns>Null when the process is gone.</returns>
    public static ProcessVitals? Of(int pid) =>
        Read(ProcessFacts.StatOf(pid)) is var (state, ticks) ? new(state, ticks, ProcessFacts.OwnMemory(pid)) : null;
}
