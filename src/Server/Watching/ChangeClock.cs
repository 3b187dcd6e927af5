using System.Diagnostics;

namespace CalmSentry.Server.Watching;

/// <summary>
/// How long ago a file last changed. Measured by the clock that only goes forward: when somebody sets the time, nothing
/// has
/// grown old by that. What the file system says is believed only as far as it fits between two looks.
/// </summary>
internal sealed class ChangeClock(string path, TimeProvider clock)
{
    private long looked = Stopwatch.GetTimestamp(),
        changed = Stopwatch.GetTimestamp();
    private (long Length, DateTime Written)? last;

    /// <returns>Null while there is no such file.</returns>
    public TimeSpan? Age()
    {
        var file = new FileInfo(path);
        var now = Stopwatch.GetTimestamp();
        if (!file.Exists)
        {
            looked = now;
            last = null;
            return null;
        }

        var present = (file.Length, file.LastWriteTimeUtc);
        if (present != last)
        {
            var byTheClock = clock.GetUtcNow().UtcDateTime - file.LastWriteTimeUtc;
            var sinceLook = Stopwatch.GetElapsedTime(looked, now);
            // Of a file that was there before the first look, only its own time tells how old it is.
            var age =
                byTheClock < TimeSpan.Zero ? TimeSpan.Zero
                : last is null ? byTheClock
                : byTheClock > sinceLook ? sinceLook
                : byTheClock;
            changed = now - (long)(age.TotalSeconds * Stopwatch.Frequency);
            last = present;
        }

        looked = now;
        return Stopwatch.GetElapsedTime(changed, now);
    }
}
