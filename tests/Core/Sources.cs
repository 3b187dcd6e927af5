namespace CalmSentry.Tests;

/// <summary>The project's own files, for tests of how it is built.</summary>
internal static class Sources
{
    public static string Root
    {
        get
        {
            var at = AppContext.BaseDirectory;
            while (!File.Exists(Path.Combine(at, "CalmSentry.slnx")))
                at = Path.GetDirectoryName(at)!;
            return at;
        }
    }

    /// <summary>The texts of all C# files below a folder of <c>src</c>.</summary>
    public static IEnumerable<string> Of(string folder) => Files(folder).Select(File.ReadAllText);

    public static IEnumerable<string> Files(string folder) =>
        Directory
            .EnumerateFiles(Path.Combine(Root, "src", folder), "*.cs", SearchOption.AllDirectories)
            .Where(file =>
                !file.Contains("/obj/", StringComparison.Ordinal) && !file.Contains("/bin/", StringComparison.Ordinal)
            );
}
