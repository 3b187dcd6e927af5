using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>Sleep by the kernel's fine clock (nanosleep(2)), late by some hundredths of a millisecond.</summary>
public static class FineSleep
{
    /// <param name="length">Nothing shortens it but a signal.</param>
    public static unsafe void For(TimeSpan length)
    {
        if (length <= TimeSpan.Zero)
            return;
        var wanted = stackalloc long[]
        {
            length.Ticks / TimeSpan.TicksPerSecond,
            length.Ticks % TimeSpan.TicksPerSecond * TimeSpan.NanosecondsPerTick,
        };
        _ = Libc.nanosleep(wanted, null);
    }
}
