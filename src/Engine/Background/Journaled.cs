namespace CalmSentry.Engine.Background;

/// <summary>
/// Work of several steps that is on record before each is done. It leaves the record only when it has come to its end: what fails on
/// the way is taken up again from where the record says it is, here, and by the server that follows.
/// </summary>
internal static class Journaled
{
    /// <summary>Tries of this server; then it is left to the next one.</summary>
    public const int MostTries = 5;

    private static readonly TimeSpan FirstPause = TimeSpan.FromMilliseconds(200),
        LongestPause = TimeSpan.FromSeconds(10);

    /// <param name="follow">Goes on with it until its end; hears whether it is not known if the last step was done.</param>
    /// <param name="forget">It has come to its end: takes it off the record.</param>
    /// <param name="failed">Hears what was not expected.</param>
    /// <param name="delay">Waits.</param>
    public static async Task ToItsEnd(
        bool resumed,
        Func<bool, Task> follow,
        Action forget,
        Action<Exception> failed,
        Func<TimeSpan, Task> delay
    )
    {
        var pauses = new Backoff(FirstPause, LongestPause);
        for (var tried = 1; ; tried++)
            try
            {
                await follow(resumed);
                forget();
                return;
            }
            catch (Exception unexpected)
            {
                failed(unexpected);
                if (tried == MostTries)
                    return;
                resumed = true;
                await delay(pauses.Next());
            }
    }
}
