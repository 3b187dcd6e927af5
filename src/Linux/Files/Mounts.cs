using System.Globalization;
using System.Text.RegularExpressions;

namespace CalmSentry.Linux.Files;

/// <summary>Mounted file systems (proc(5), mountinfo).</summary>
public static partial class Mounts
{
    public static bool IsMountPoint(string path)
    {
        var wanted = path.Length > 1 ? path.TrimEnd('/') : path;
        return File.ReadLines("/proc/self/mountinfo")
            .Any(line =>
                line.Split(' ') is [_, _, _, _, var point, ..]
                && Escape()
                    .Replace(
                        point,
                        found =>
                            ((char)Convert.ToInt32(found.Groups[1].Value, 8)).ToString(CultureInfo.InvariantCulture)
                    ) == wanted
            );
    }

    [GeneratedRegex(@"\\([0-7]{3})")]
    private static partial Regex Escape();
}
