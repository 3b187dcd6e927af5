using System.Globalization;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Linux.Boot;

/// <summary>This machine and its present boot.</summary>
public static class Machine
{
    /// <summary>
    /// Another id each boot: the kernel's (random(4), /proc/sys/kernel/random/boot_id) with the start of process 1, for
    /// a
    /// machine within a machine boots more often than the kernel it shares.
    /// </summary>
    public static string BootId { get; } =
        string.Create(
            CultureInfo.InvariantCulture,
            $"{File.ReadAllText("/proc/sys/kernel/random/boot_id").Trim()}.{ProcessFacts.Stat(1, 22)}"
        );

    /// <summary>When process 1 was started.</summary>
    public static DateTimeOffset BootedAt => ProcessFacts.Started(1);

    /// <summary>Why nothing is to be begun as this machine comes up, as a clause; null: what begins with it does.</summary>
    /// <param name="file">One that says so while it is there.</param>
    public static string? BeginsNothing(string file)
    {
        const string word = "calm-sentry.begin=nothing";
        if (File.Exists(file))
            return $"{file} is there";
        return File.ReadAllText("/proc/cmdline").Split(' ', '\n').Contains(word)
            ? $"the kernel was started with {word}"
            : null;
    }

    /// <summary>Whether the kernel has been told that its clock is set right (adjtimex(2), STA_UNSYNC).</summary>
    public static unsafe bool IsClockSet
    {
        get
        {
            const int statusAt = 40,
                unsynchronized = 0x40;
            var timex = stackalloc byte[512]; // struct timex has 208 bytes
            new Span<byte>(timex, 512).Clear(); // nothing is to be set
            return Native.Libc.adjtimex(timex) >= 0 && (*(int*)(timex + statusAt) & unsynchronized) == 0;
        }
    }

    /// <summary>
    /// How long there has been somebody who could set the clock: since the kernel came up, whenever a machine within it did.
    /// </summary>
    public static TimeSpan ClockRunsFor => TimeSpan.FromMilliseconds(Environment.TickCount64);

    public static string HostName => Environment.MachineName;

    /// <summary>
    /// Processor time this machine had and how much of it nobody used, in ticks since it came up (proc(5), stat).
    /// </summary>
    public static (long All, long Idle) ProcessorTime()
    {
        var parts = File.ReadLines("/proc/stat")
            .First()
            .Split(' ', StringSplitOptions.RemoveEmptyEntries)
            .Skip(1)
            .Select(text => long.Parse(text, CultureInfo.InvariantCulture))
            .ToArray();
        return (parts[..8].Sum(), parts[3] + parts[4]);
    }
}
