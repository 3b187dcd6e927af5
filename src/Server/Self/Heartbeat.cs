using CalmSentry.Contract;

namespace CalmSentry.Server.Self;

/// <summary>
/// Touches a file every two seconds, from the threads that all of the server's work is done by: where they do none any more,
/// its guard ends the server and begins another. An empty file: a full disk keeps nobody from making and touching one.
/// </summary>
internal sealed class Heartbeat : IDisposable
{
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(2);

    private readonly Timer timer;

    public Heartbeat(Places places)
    {
        var file = new FileInfo(places.ServerBeat);
        Before = file.Exists ? file.LastWriteTimeUtc : null;
        timer = new(_ => Touch(places.ServerBeat), null, TimeSpan.Zero, Beat);
    }

    /// <summary>The last beat of the server before this one, by people's clock; null: there was none in this boot.</summary>
    public DateTimeOffset? Before { get; }

    private static void Touch(string file)
    {
        try
        {
            if (File.Exists(file))
                File.SetLastWriteTimeUtc(file, DateTime.UtcNow);
            else
                File.Create(file).Dispose();
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // The directory is being wiped, or made again: at the next beat.
        }
    }

    public void Dispose() => timer.Dispose();
}
