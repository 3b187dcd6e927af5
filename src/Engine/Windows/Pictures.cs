using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Core.Runs;
using CalmSentry.Linux.Files;

namespace CalmSentry.Engine.Windows;

/// <summary>
/// What displays showed last, a picture a run: kept all along, so that the last one before an end is there whoever was killed. Only the
/// sentry's own account reads them.
/// </summary>
internal sealed class Pictures(Places places)
{
    /// <summary>Of so many runs of a service, the latest, and of so many bytes.</summary>
    private const int MostRuns = 10;
    private const long MostBytes = 64L << 20;

    private const string Ending = ".png";

    private string FolderOf(string service) => Path.Combine(places.Pictures, service);

    private string FileOf(string service, RunNumber run) =>
        Path.Combine(FolderOf(service), run.Value.ToString(CultureInfo.InvariantCulture) + Ending);

    /// <exception cref="IOException">It cannot be written; what was there is there still.</exception>
    public void Write(string service, RunNumber run, byte[] png)
    {
        OwnDirectory.Make(places.Pictures);
        OwnDirectory.Make(FolderOf(service));
        var file = FileOf(service, run);
        // After a power cut a picture may be missing; half a one is never there under this name.
        File.WriteAllBytes(file + "~", png);
        File.Move(file + "~", file, overwrite: true);
        var bytes = 0L;
        foreach (var (old, i) in All(service).Select((one, i) => (one, i)).ToList())
        {
            bytes += old.Length;
            if (i > 0 && (i >= MostRuns || bytes > MostBytes))
                old.Delete();
        }
    }

    /// <summary>When each was taken that is kept, by its run.</summary>
    public IReadOnlyDictionary<long, DateTimeOffset> Kept(string service) =>
        All(service).ToDictionary(file => RunOf(file)!.Value.Value, file => (DateTimeOffset)file.LastWriteTimeUtc);

    /// <returns>A PNG, and when it was taken; null: none is kept.</returns>
    public (byte[] Png, DateTimeOffset At)? Of(string service, RunNumber run)
    {
        try
        {
            return (File.ReadAllBytes(FileOf(service, run)), File.GetLastWriteTimeUtc(FileOf(service, run)));
        }
        catch (Exception error) when (error is FileNotFoundException or DirectoryNotFoundException)
        {
            return null;
        }
    }

    /// <summary>The latest that is kept of a service, by its run.</summary>
    public RunNumber? Latest(string service) => All(service).FirstOrDefault() is { } file ? RunOf(file) : null;

    public void Forget(string service)
    {
        if (Directory.Exists(FolderOf(service)))
            Directory.Delete(FolderOf(service), recursive: true);
    }

    private IEnumerable<FileInfo> All(string service) =>
        Directory.Exists(FolderOf(service))
            ? new DirectoryInfo(FolderOf(service))
                .EnumerateFiles($"*{Ending}")
                .Where(file => RunOf(file) is not null)
                .OrderByDescending(file => RunOf(file)!.Value.Value)
            : [];

    private static RunNumber? RunOf(FileInfo file) =>
        long.TryParse(
            Path.GetFileNameWithoutExtension(file.Name),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var run
        )
        && run > 0
            ? new(run)
            : null;
}
