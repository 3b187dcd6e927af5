using System.Text;
using CalmSentry.Linux.Boot;
using CalmSentry.Linux.Files;
using CalmSentry.Linux.Foreign;

namespace CalmSentry.Engine.Keepers;

/// <summary>
/// That somebody stopped a service, written down until it is on record: a file <c>stopped</c> in the service's run directory, with
/// this boot of the machine and who it was.
/// </summary>
internal static class StopNotes
{
    private const int Longest = 256;

    public static void Write(string runDirectory, string by)
    {
        try
        {
            if (Directory.Exists(runDirectory))
                OwnFile.Write(FileIn(runDirectory), Encoding.UTF8.GetBytes($"{Machine.BootId}\n{by}"));
        }
        catch (IOException)
        {
            // Then the record alone knows, once it can be written.
        }
    }

    public static string? Read(string runDirectory)
    {
        try
        {
            var text = Encoding.UTF8.GetString(Held.Head(Ground.Own, FileIn(runDirectory), Longest));
            return text.Split('\n', 2) is [var boot, { Length: > 0 } by] && boot == Machine.BootId ? by : null;
        }
        catch (IOException)
        {
            return null;
        }
    }

    public static void Discard(string runDirectory)
    {
        try
        {
            File.Delete(FileIn(runDirectory));
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // There is no such directory.
        }
    }

    private static string FileIn(string runDirectory) => Path.Combine(runDirectory, "stopped");
}
