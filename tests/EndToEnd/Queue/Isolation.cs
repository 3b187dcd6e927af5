using System.Diagnostics;

namespace CalmSentry.Tests.EndToEnd.Queue;

/// <summary>
/// A worker's own part of the machine (namespaces(7)): processes, mounts, network and System V memory of its own, with
/// <c>worker.sh</c> laying its own /tmp, /run, /var/spool, /home and /etc over the host's. What one class does to the
/// host no other sees, so any of them may run beside any other.
/// </summary>
internal static class Isolation
{
    /// <summary>In the environment of a worker that has all of it: which worker it is.</summary>
    public const string Variable = "CALM_TEST_WORKER";

    private static readonly string[] Unshare =
    [
        "unshare",
        "--mount",
        "--propagation=private",
        "--pid",
        "--net",
        "--ipc",
        "--fork",
        "--kill-child",
    ];

    private static readonly string Script = Path.Combine(Sentry.Repository, "tests", "EndToEnd", "Queue", "worker.sh");

    /// <summary>Why no worker can have a part of the machine of its own here, as the host says it; null where it can.</summary>
    public static async Task<string?> Missing(string place)
    {
        try
        {
            using var tried = Start(place, 0, ["true"]);
            var said = await tried.StandardError.ReadToEndAsync();
            await tried.WaitForExitAsync();
            return tried.ExitCode == 0 ? null : said.Trim();
        }
        catch (System.ComponentModel.Win32Exception error)
        {
            return error.Message;
        }
    }

    /// <param name="place">A directory of its own for what is laid over the host.</param>
    /// <param name="number">Which worker it is: its accounts get numbers that no other worker's have.</param>
    /// <param name="command">What runs there.</param>
    public static Process Start(string place, int number, string[] command)
    {
        string[] line = [.. Unshare, "bash", Script, place, $"{number}", Sentry.Repository, .. command];
        return Process.Start(
            new ProcessStartInfo(line[0], line[1..])
            {
                RedirectStandardInput = true,
                RedirectStandardOutput = true,
                RedirectStandardError = command is ["true"],
                Environment = { [Variable] = $"{number}" },
            }
        )!;
    }
}
