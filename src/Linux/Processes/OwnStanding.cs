using System.Globalization;

namespace CalmSentry.Linux.Processes;

/// <summary>What this process has that its programs are not to inherit.</summary>
public static class OwnStanding
{
    /// <summary>Variable in which a guard hands on what it was started with: its own limits are raised like the server's.</summary>
    public const string UsualFilesVariable = "CALM_USUAL_FILES";

    /// <summary>
    /// Keeps this process, and what it starts, from the kernel's choice when memory runs out (proc(5), oom_score_adj), as
    /// far as this account may: the sentry's own part is small, and everything hangs on it.
    /// </summary>
    public static void KeepFromMemoryChoice()
    {
        try
        {
            File.WriteAllText("/proc/self/oom_score_adj", "-900");
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Only root may.
        }
    }

    /// <summary>
    /// How many files a process of this host may have open without asking for more. The runtime raises its own limit before
    /// anything of ours runs: so it is the one of whoever started the sentry.
    /// </summary>
    public static long UsualFiles { get; } =
        long.TryParse(
            Environment.GetEnvironmentVariable(UsualFilesVariable)
                ?? ProcessFacts.Limit(ProcessFacts.Parent(Environment.ProcessId), "Max open files"),
            NumberStyles.None,
            CultureInfo.InvariantCulture,
            out var files
        )
            ? files
            : 1024;
}
