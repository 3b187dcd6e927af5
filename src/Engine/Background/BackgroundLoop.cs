namespace CalmSentry.Engine.Background;

/// <summary>
/// Work that goes on beside everything else from its beginning until it is disposed of. One round that fails ends nothing: it is told,
/// and after a pause the next one begins.
/// </summary>
internal sealed class BackgroundLoop : IAsyncDisposable
{
    private readonly CancellationTokenSource over = new();
    private readonly Task going;

    /// <summary>It begins at once.</summary>
    /// <param name="round">One round; it waits by itself for what it is to do next.</param>
    /// <param name="failed">Hears what was not expected of a round, and says how long until the next.</param>
    public BackgroundLoop(Func<CancellationToken, Task> round, Func<Exception, TimeSpan> failed, Clocks clocks) =>
        going = clocks.Run(() => Go(round, failed, clocks, over.Token));

    private static async Task Go(
        Func<CancellationToken, Task> round,
        Func<Exception, TimeSpan> failed,
        Clocks clocks,
        CancellationToken over
    )
    {
        while (!over.IsCancellationRequested)
            try
            {
                await round(over);
            }
            catch (Exception) when (over.IsCancellationRequested)
            {
                // What is cut off at the end is no failure.
            }
            catch (Exception unexpected)
            {
                await clocks
                    .Delay(failed(unexpected), over)
                    .ConfigureAwait(
                        ConfigureAwaitOptions.SuppressThrowing | ConfigureAwaitOptions.ContinueOnCapturedContext
                    );
            }
    }

    public async ValueTask DisposeAsync()
    {
        await over.CancelAsync();
        await going.ConfigureAwait(ConfigureAwaitOptions.SuppressThrowing);
        over.Dispose();
    }
}
