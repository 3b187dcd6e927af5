using System.Globalization;

namespace CalmSentry.Linux.Processes;

/// <summary>The machine's memory (proc_meminfo(5)).</summary>
public static class MachineMemory
{
    /// <returns>All there is, and what programs can still have without swapping, in bytes; null: it cannot be read.</returns>
    public static (long Total, long Available)? Now()
    {
        try
        {
            long? total = null,
                available = null;
            foreach (var line in File.ReadLines("/proc/meminfo"))
            {
                var parts = line.Split(' ', StringSplitOptions.RemoveEmptyEntries);
                if (parts is ["MemTotal:", var all, "kB"])
                    total = long.Parse(all, CultureInfo.InvariantCulture) << 10;
                else if (parts is ["MemAvailable:", var left, "kB"])
                    available = long.Parse(left, CultureInfo.InvariantCulture) << 10;
            }

            return total is { } t && available is { } a ? (t, a) : null;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException or FormatException)
        {
            return null;
        }
    }
}
