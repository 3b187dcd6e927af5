using System.Globalization;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Keepers;

/// <summary>What was seen of the process that a program left in the background.</summary>
/// <param name="Pid">It; null: not found yet.</param>
/// <param name="Missing">Then, why not, as a clause.</param>
internal readonly record struct DetachedSight(int? Pid, string? Missing);

/// <summary>
/// Which process is the program, once the one that was launched has put it into the background and ended.
/// </summary>
internal static class DetachedMain
{
    /// <summary>Bytes of a pid file that are looked at, and characters of its first line that are shown.</summary>
    private const int LongestPidFile = 4096,
        LongestShown = 40;

    /// <summary>
    /// By its pid file, if it names one of the tree; else the child that leads a session of its own, else the oldest
    /// child.
    /// It must be a child of the keeper, who alone sees its end: of a process further down, the one above it counts.
    /// </summary>
    public static DetachedSight Of(string? pidFile, Func<int, int> parentOf, int keeper)
    {
        var children = ProcessFacts.All().Where(pid => parentOf(pid) == keeper && ProcessFacts.Lives(pid)).ToList();
        if (pidFile is not null)
        {
            var (named, missing) = Read(pidFile);
            for (var pid = named; pid > 1; pid = parentOf(pid))
                if (children.Contains(pid))
                    return new(pid, null);
            return new(
                null,
                missing ?? $"its pid file {pidFile} names pid {named}, which is none of the processes it has left"
            );
        }

        int? main = children
            .OrderByDescending(pid => ProcessFacts.Stat(pid, 6) == pid)
            .ThenBy(pid => ProcessFacts.Stat(pid, 22))
            .ThenBy(pid => pid)
            .Cast<int?>()
            .FirstOrDefault();
        return new(main, main is null ? "it has left no process" : null);
    }

    /// <summary>The first line is a process id, alone but for blanks; what else is in the file is the program's own.</summary>
    public static (int Pid, string? Missing) Read(string file)
    {
        if (Held.Text(Ground.PidFile, file, LongestPidFile) is not { } text)
            return (0, $"its pid file {file} is not there, or cannot be read");
        var line = text.Split('\n', 2)[0].Trim();
        if (int.TryParse(line, NumberStyles.None, CultureInfo.InvariantCulture, out var pid) && pid > 0)
            return (pid, null);
        var shown = new string([.. line.Take(LongestShown).Select(c => char.IsControl(c) ? '·' : c)]);
        return (
            0,
            line.Length == 0
                ? $"the first line of its pid file {file} is empty"
                : $"the first line of its pid file {file} is '{shown}{(line.Length > LongestShown ? "…" : "")}', and no process id"
        );
    }
}
