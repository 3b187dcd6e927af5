using System.Globalization;
using System.Text;

namespace CalmSentry.Linux.Processes;

/// <summary>How a process does at one moment (proc(5), stat and statm).</summary>
/// <param name="State">R, S, D, T (stopped by a signal), t (by a debugger), Z, X …</param>
/// <param name="Ticks">Processor time so far, hundredths of a second, with that of children it has collected.</param>
/// <param name="OwnBytes">Resident memory that is its own.</param>
public readonly record struct ProcessVitals(char State, long Ticks, long OwnBytes)
{
    /// <summary>Ticks of /proc in a second: fixed in the kernel's interface to programs (USER_HZ).</summary>
    public const int TicksPerSecond = 100;

    /// <returns>Null when the process is gone.</returns>
    public static ProcessVitals? Of(int pid)
    {
        try
        {
            var stat = Encoding.UTF8.GetString(File.ReadAllBytes($"/proc/{pid}/stat"));
            var fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
            if (fields.Length < 15) return null;
            // Fields 14 to 17 of proc(5): user, system, and both of collected children.
            var ticks = fields[11..15].Sum(text => long.Parse(text, CultureInfo.InvariantCulture));
            return new(fields[0][0], ticks, ProcessFacts.OwnMemory(pid));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }
}
