using System.Globalization;
using System.Text.RegularExpressions;

namespace CalmSentry.Linux.Files;

/// <summary>Mounted file systems (proc(5), mountinfo).</summary>
public static partial class Mounts
{
    public static bool IsMountPoint(string path)
    {
        var wanted = path.Length > 1 ? path.TrimEnd('/') : path;
        return Points().Any(point => point == wanted);
    }

    /// <summary>Where a file system is mounted on a directory, or somewhere below it; null: nowhere.</summary>
    public static string? In(string directory) =>
        Points()
            .FirstOrDefault(point => point == directory || point.StartsWith($"{directory}/", StringComparison.Ordinal));

    private static IEnumerable<string> Points() =>
        File.ReadLines("/proc/self/mountinfo")
            .Select(line => line.Split(' ') is [_, _, _, _, var point, ..] ? point : "")
            .Select(point =>
                Escape()
                    .Replace(
                        point,
                        found =>
                            ((char)Convert.ToInt32(found.Groups[1].Value, 8)).ToString(CultureInfo.InvariantCulture)
                    )
            );

    [GeneratedRegex(@"\\([0-7]{3})")]
    private static partial Regex Escape();
}
