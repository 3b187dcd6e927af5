namespace CalmSentry.Engine.Watching;

/// <summary>
/// How long ago a file last changed. Measured by the clock that only goes forward: when somebody sets the time, nothing
/// has
/// grown old by that. What the file system says is believed only as far as it fits between two looks.
/// </summary>
internal sealed class ChangeClock(Func<(long Length, DateTime Written)?> look, TimeProvider clock)
{
    private long looked = clock.GetTimestamp(),
        changed = clock.GetTimestamp();
    private (long Length, DateTime Written)? last;

    public ChangeClock(string path, TimeProvider clock)
        : this(() => new FileInfo(path) is { Exists: true } file ? (file.Length, file.LastWriteTimeUtc) : null, clock)
    { }

    /// <returns>Null while there is no such file.</returns>
    public TimeSpan? Age()
    {
        var now = clock.GetTimestamp();
        if (look() is not { } present)
        {
            looked = now;
            last = null;
            return null;
        }

        if (present != last)
        {
            var byTheClock = clock.GetUtcNow().UtcDateTime - present.Written;
            var sinceLook = clock.GetElapsedTime(looked, now);
            // Of a file that was there before the first look, only its own time tells how old it is.
            var age =
                byTheClock < TimeSpan.Zero ? TimeSpan.Zero
                : last is null ? byTheClock
                : byTheClock > sinceLook ? sinceLook
                : byTheClock;
            changed = now - (long)(age.TotalSeconds * clock.TimestampFrequency);
            last = present;
        }

        looked = now;
        return clock.GetElapsedTime(changed, now);
    }
}
