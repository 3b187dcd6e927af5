using CalmSentry.Engine.Logbook;
using CalmSentry.Telling;

namespace CalmSentry.Server.Self;

/// <summary>
/// Recipients, and how they are told, are taken in as soon as the settings' file is changed. What is wrong with it is said, and what
/// held before goes on holding. All other settings hold from the sentry's next start on.
/// </summary>
internal sealed class SettingsWatch : IDisposable
{
    private static readonly TimeSpan Settled = TimeSpan.FromMilliseconds(200);

    private readonly string file;
    private readonly Teller teller;
    private readonly Record logbook;
    private readonly FileSystemWatcher? watcher;
    private readonly Timer soon;
    private readonly SemaphoreSlim one = new(1);
    private volatile bool over;

    public SettingsWatch(string file, Teller teller, Record logbook)
    {
        (this.file, this.teller, this.logbook) = (file, teller, logbook);
        soon = new(_ => _ = ReadAgain());
        try
        {
            Directory.CreateDirectory(Path.GetDirectoryName(file)!);
            watcher = new(Path.GetDirectoryName(file)!, Path.GetFileName(file))
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

    private async Task ReadAgain()
    {
        await one.WaitAsync().ConfigureAwait(false);
        try
        {
            if (over)
                return;
            var (settings, wrong) = Settings.Read(file);
            if (settings is null)
                logbook.Trouble($"{wrong}. Who is told, and how, stays as it was.");
            else
                await teller.Take(settings.Telling).ConfigureAwait(false);
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
