using System.Globalization;
using CalmSentry.Contract;
using CalmSentry.Contract.Keeper;
using CalmSentry.Core.Runs;
using CalmSentry.Linux.Accounts;
using CalmSentry.Linux.Foreign;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;

namespace CalmSentry.Engine.Keepers;

/// <summary>
/// What a keeper left behind: outcomes on file, and, if it was killed, processes that must not live on beside the next
/// run.
/// </summary>
internal static class Remains
{
    private const int LongestOutcome = 4096;

    /// <summary>The outcome a keeper wrote down, with its time; null when it wrote none for that run.</summary>
    public static (KeeperWord Word, byte[] Body)? Outcome(string runDirectory, RunNumber run)
    {
        try
        {
            var bytes = Held.Head(Ground.Own, Path.Combine(runDirectory, $"outcome.{run}"), LongestOutcome);
            return Message.TryReadHead(bytes, out var word, out _) ? (word, bytes[Message.HeadLength..]) : null;
        }
        catch (Exception error) when (error is IOException or InvalidDataException)
        {
            return null;
        }
    }

    /// <summary>The note of how a run, or a command of it, ended; with that the run is over, also that it was ordered.</summary>
    public static void Discard(RunSite site, ControlGroups groups, bool over)
    {
        try
        {
            File.Delete(Path.Combine(site.Place, $"outcome.{site.Run}"));
        }
        catch (DirectoryNotFoundException) { }

        if (!over)
            return;
        RunNotes.Discard(site.Place, site.Run);
        // The keeper has removed it, unless the program had groups of its own below it.
        if (site.Group(groups) is { } group && Directory.Exists(group))
            ControlGroups.RemoveTree(group);
    }

    /// <summary>
    /// A process that the kernel itself holds (on a disk that does not answer) ends when it is let go: nobody waits for
    /// that.
    /// </summary>
    private static readonly TimeSpan EndPatience = TimeSpan.FromSeconds(10);

    /// <summary>
    /// Ends every process of a run whose keeper is gone, and returns when none is left, or none more ends. What is in its group belongs
    /// to it, and of what left that, whatever carries its mark rightly (<see cref="MarkedProcesses"/>).
    /// </summary>
    /// <param name="accounts">The run's account, by its number; none where the host does not know it any more.</param>
    /// <returns>How many there were, and which are still there, as a clause; null: none.</returns>
    public static async Task<(int Ended, string? Left)> End(
        RunSite site,
        Places places,
        ControlGroups groups,
        IReadOnlyCollection<uint> accounts
    )
    {
        var group = site.Group(groups);
        if (group is not null)
            ControlGroups.KillAll(group);
        using var marked = new MarkedProcesses.Ending(
            $"CALM_RUN={site.Mark(places)}",
            accounts,
            withoutMark: group is null
        );
        var began = System.Diagnostics.Stopwatch.GetTimestamp();
        while (true)
        {
            // Wherever they have gone; a process that is being ended has no environment any more.
            marked.End();
            var left = marked.Left.ToList();
            if (left.Count == 0 && (group is null || !ControlGroups.IsPopulated(group)))
                break;
            if (System.Diagnostics.Stopwatch.GetElapsedTime(began) > EndPatience)
                return (marked.Count, Named(left.Union(group is null ? [] : ControlGroups.Processes(group))));
            await Task.Delay(5);
        }

        if (group is not null)
            ControlGroups.RemoveTree(group);
        return (marked.Count, null);
    }

    /// <summary>Names processes for people: number, account, program.</summary>
    public static string Named(IEnumerable<int> pids)
    {
        const int most = 5;
        var all = pids.Order().ToList();
        var named = all.Take(most)
            .Select(pid =>
                string.Create(
                    CultureInfo.InvariantCulture,
                    $"pid {pid} ({ProcessFacts.Status(pid, "Name")}, as {Account.NameOf(ProcessFacts.EffectiveUser(pid) ?? 0)})"
                )
            );
        return string.Join(", ", named) + (all.Count > most ? $" and {all.Count - most} more" : "");
    }

    public static Outcome Read(ReadOnlySpan<byte> body)
    {
        var status = new WaitStatus((int)Message.Number(body, "status"));
        var detail = Message.Number(body, "oom") switch
        {
            <= 0 => null,
            1 => "it had reached its memory limit, and the kernel killed one of its processes",
            var ended => $"it had reached its memory limit, and the kernel killed {ended} of its processes",
        };
        return status.Signal != 0
            ? new(OutcomeKind.Signalled, status.Signal, status.DumpedCore, detail)
            : new(OutcomeKind.Exited, status.ExitCode, Detail: detail);
    }
}
