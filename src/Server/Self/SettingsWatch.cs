using CalmSentry.Engine.Logbook;

namespace CalmSentry.Server.Self;

/// <summary>
/// The settings are taken in as soon as their file is changed, but for those of <see cref="Settings.AtStart"/>. What is wrong with it is
/// said, and what held before goes on holding (<see cref="SettingsFile"/>).
/// </summary>
internal sealed class SettingsWatch : IDisposable
{
    private static readonly TimeSpan Settled = TimeSpan.FromMilliseconds(200);

    private readonly string path;
    private readonly SettingsFile file;
    private readonly Func<Settings, Task> take;
    private readonly Record logbook;
    private readonly FileSystemWatcher? watcher;
    private readonly Timer soon;
    private readonly SemaphoreSlim one = new(1);
    private volatile bool over;

    /// <param name="take">Carries out what holds from now on.</param>
    public SettingsWatch(string path, SettingsFile file, Func<Settings, Task> take, Record logbook)
    {
        (this.path, this.file, this.take, this.logbook) = (path, file, take, logbook);
        soon = new(_ => _ = ReadAgain());
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            watcher = new(Path.GetDirectoryName(path)!, Path.GetFileName(path))
            {
                NotifyFilter = NotifyFilters.LastWrite | NotifyFilters.FileName | NotifyFilters.Size,
            };
            // An editor writes it in several strokes, or puts another in its place.
            watcher.Changed += (_, _) => Soon();
            watcher.Created += (_, _) => Soon();
            watcher.Deleted += (_, _) => Soon();
            watcher.Renamed += (_, _) => Soon();
            watcher.Error += (_, _) => Soon();
            watcher.EnableRaisingEvents = true;
            Soon(); // somebody may have changed it since it was read
        }
        catch (Exception error) when (error is IOException or ArgumentException or UnauthorizedAccessException)
        {
            // It may not write there, or the host has no watches left: changes are seen at its next start.
        }
    }

    private void Soon()
    {
        if (!over)
            soon.Change(Settled, Timeout.InfiniteTimeSpan);
    }

    /// <summary>
    /// Whoever saves it anew may have emptied it in this moment: that would be settings without any key, and hold until it is changed again.
    /// </summary>
    private bool IsBeingWritten() =>
        new FileInfo(path) is { Exists: true, Length: 0 } empty
        && DateTime.UtcNow - empty.LastWriteTimeUtc is var age
        && age >= TimeSpan.Zero
        && age < TimeSpan.FromSeconds(1);

    private async Task ReadAgain()
    {
        await one.WaitAsync().ConfigureAwait(false);
        try
        {
            if (over)
                return;
            if (IsBeingWritten())
            {
                Soon();
                return;
            }

            // Whoever was set before is told of a mistake, and of what was put right whoever is set now.
            if (file.Again(logbook) is { } settings)
                await take(settings).ConfigureAwait(false);
        }
        catch (Exception unexpected)
        {
            logbook.Failed("its changed settings", unexpected);
        }
        finally
        {
            one.Release();
        }
    }

    public void Dispose()
    {
        over = true;
        watcher?.Dispose();
        soon.Dispose();
    }
}
