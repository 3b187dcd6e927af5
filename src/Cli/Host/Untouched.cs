using System.Diagnostics;
using System.Globalization;

namespace CalmSentry.Cli.Host;

/// <summary>Whether files, and every folder on the way to them, can be changed by nobody but root and one person.</summary>
internal static class Untouched
{
    private const int WrittenByOthers = 0x12, // group and others
        Sticky = 0x200,
        MostLinks = 40;

    /// <returns>What somebody else can change, as a clause; null: nothing.</returns>
    public static string? WhyNot(IEnumerable<string> files, int person)
    {
        var steps = files.SelectMany(Steps).Distinct().ToList();
        foreach (var (path, uid, mode, isFolder) in Look(steps))
        {
            if (uid != 0 && uid != person)
                return $"{path} belongs to {uid}, another account, who can change it";
            // In a folder that all can write, only the owner of a thing can move it, and that was looked at.
            if ((mode & WrittenByOthers) != 0 && !(isFolder && (mode & Sticky) != 0))
                return $"{path} can be changed by others than root and you";
        }

        return null;
    }

    /// <summary>Each folder on the way, and through each link that on its way.</summary>
    private static IEnumerable<string> Steps(string path)
    {
        var links = 0;
        var left = new Queue<string>([Path.GetFullPath(path)]);
        while (left.TryDequeue(out var next))
            for (var at = next; at is not null; at = Path.GetDirectoryName(at))
            {
                if (new FileInfo(at).LinkTarget is not { } target)
                {
                    yield return at;
                    continue;
                }

                if (++links > MostLinks)
                    yield break;
                left.Enqueue(Path.GetFullPath(target, Path.GetDirectoryName(at) ?? "/"));
            }
    }

    private static IEnumerable<(string Path, int Uid, int Mode, bool IsFolder)> Look(List<string> paths)
    {
        using var asked = Process.Start(
            new ProcessStartInfo("/usr/bin/stat", ["--printf=%u %a %F\\0%n\\0", "--", .. paths])
            {
                RedirectStandardOutput = true,
                RedirectStandardError = true,
            }
        )!;
        var part = asked.StandardOutput.ReadToEnd().Split('\0');
        for (var i = 0; i + 1 < part.Length; i += 2)
        {
            var word = part[i].Split(' ', 3);
            yield return (
                part[i + 1],
                int.Parse(word[0], CultureInfo.InvariantCulture),
                Convert.ToInt32(word[1], 8),
                word[2] == "directory"
            );
        }
    }
}
