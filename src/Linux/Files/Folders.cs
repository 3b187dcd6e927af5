namespace CalmSentry.Linux.Files;

/// <summary>Folders on the way to a path.</summary>
public static class Folders
{
    /// <summary>Every folder above a path, the topmost first, the root included.</summary>
    public static IReadOnlyList<string> Above(string path)
    {
        var above = new List<string>();
        for (var at = Path.GetDirectoryName(path); at is not null; at = Path.GetDirectoryName(at)) above.Insert(0, at);
        return above;
    }
}
