using System.Globalization;
using System.Security.Cryptography;

namespace CalmSentry.Linux.Groups;

/// <summary>
/// A version 2 control group for one command: it ends with the command, and everything the command left behind with it.
/// Below
/// the group of a service's run it counts among that run's ceilings, and ends with the run at the latest.
/// </summary>
internal sealed class CommandGroup
{
    private const string Prefix = "look-";

    private static readonly TimeSpan EndPatience = TimeSpan.FromSeconds(2),
        Beat = TimeSpan.FromMilliseconds(2);

    private readonly string above;
    private readonly bool ofRun;

    private CommandGroup(string above, string directory, bool ofRun) =>
        (this.above, Directory, this.ofRun) = (above, directory, ofRun);

    public string Directory { get; }

    /// <param name="ofRun">The group above is a run's own, not the sentry's.</param>
    /// <returns>Null where this host has no version 2 groups, or no room for another.</returns>
    public static CommandGroup? Make(string? above, bool ofRun)
    {
        if (above is null)
            return null;
        var directory = Path.Combine(above, Prefix + Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(6)));
        try
        {
            System.IO.Directory.CreateDirectory(directory);
            return new(above, directory, ofRun);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>Ends what commands of a server that was killed have left: in its own group, and in those of runs.</summary>
    public static void Sweep(string above)
    {
        foreach (var group in Left(above).Concat(System.IO.Directory.EnumerateDirectories(above).SelectMany(Left)))
        {
            ControlGroups.KillAll(group);
            ControlGroups.RemoveTree(group);
        }

        static string[] Left(string directory)
        {
            try
            {
                return System.IO.Directory.GetDirectories(directory, Prefix + "*");
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                return []; // gone already
            }
        }
    }

    /// <summary>In one stroke, or, on a kernel before 5.14, one by one until none is left.</summary>
    private void Kill()
    {
        if (!ControlGroups.KillAll(Directory))
            foreach (var line in File.ReadLines(Path.Combine(Directory, "cgroup.procs")))
                if (int.TryParse(line, CultureInfo.InvariantCulture, out var pid))
                    Processes.ProcessFacts.Signal(pid, Native.Libc.SIGKILL);
    }

    /// <summary>
    /// Ends every process in it and removes it; the run's own group too, when nothing else is in it any more.
    /// </summary>
    public async Task End()
    {
        try
        {
            for (var waited = TimeSpan.Zero; waited < EndPatience; waited += Beat)
            {
                Kill();
                if (!ControlGroups.IsPopulated(Directory))
                    break;
                await Task.Delay(Beat).ConfigureAwait(false);
            }

            System.IO.Directory.Delete(Directory);
            if (ofRun && !System.IO.Directory.EnumerateDirectories(above).Any())
                System.IO.Directory.Delete(above); // refused while processes are in it
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            // Gone already, or still needed.
        }
    }
}
