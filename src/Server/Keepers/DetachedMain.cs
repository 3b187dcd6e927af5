using System.Globalization;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Server.Keepers;

/// <summary>
/// Which process is the program, once the one that was launched has put it into the background and ended.
/// </summary>
internal static class DetachedMain
{
    private const int LongestPidFile = 64;

    /// <summary>
    /// By its pid file, if it names one of the tree; else the child that leads a session of its own, else the oldest
    /// child.
    /// It must be a child of the keeper, who alone sees its end: of a process further down, the one above it counts.
    /// </summary>
    public static int? Of(string? pidFile, Func<int, int> parentOf, int keeper)
    {
        var children = ProcessFacts.All().Where(pid => parentOf(pid) == keeper && ProcessFacts.Lives(pid)).ToList();
        if (pidFile is not null)
        {
            for (var pid = Read(pidFile); pid > 1; pid = parentOf(pid))
                if (children.Contains(pid))
                    return pid;
            return null;
        }

        return children
            .OrderByDescending(pid => ProcessFacts.Stat(pid, 6) == pid)
            .ThenBy(pid => ProcessFacts.Stat(pid, 22))
            .ThenBy(pid => pid)
            .Cast<int?>()
            .FirstOrDefault();
    }

    private static int Read(string file) =>
        int.TryParse(
            Held.Text(file, LongestPidFile)?.Trim(),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var pid
        )
            ? pid
            : 0;
}
