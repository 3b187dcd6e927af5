using System.Text;
using CalmSentry.Linux.Native;

namespace CalmSentry.Linux.Processes;

/// <summary>A process as it is judged whether a mark in its environment is true.</summary>
/// <param name="Began">In ticks since the boot (proc(5), stat field 22): with it a number is one process.</param>
/// <param name="IsMarked">Its environment has the mark: text, which anybody can write.</param>
public readonly record struct MarkSight(int Pid, int Parent, long Began, bool IsMarked, ProcessUsers Users);

/// <summary>
/// Whose a mark says processes are. It is no proof by itself: anybody can begin a program with it, and a set-user-ID program keeps the
/// environment of the stranger who starts it. It counts where all ids of the process are root's or the marked run's own account's, and
/// where the process comes from such a one.
/// </summary>
public static class MarkedProcesses
{
    /// <summary>Those that belong to what the mark names.</summary>
    /// <param name="accounts">Whose processes are believed, beside root's.</param>
    /// <param name="withoutMark">
    /// What comes from one that belongs does so too if it cleared its environment: where no control group holds the run together.
    /// </param>
    public static IReadOnlySet<int> Belonging(
        IReadOnlyCollection<MarkSight> seen,
        IReadOnlyCollection<uint> accounts,
        bool withoutMark
    )
    {
        uint[] believed = [0, .. accounts];
        var belonging = seen.Where(one => one.IsMarked && one.Users.AreAll(believed))
            .Select(one => one.Pid)
            .ToHashSet();
        if (belonging.Count == 0)
            return belonging;
        var children = seen.Where(one => one.IsMarked || withoutMark).ToLookup(one => one.Parent, one => one.Pid);
        var open = new Queue<int>(belonging);
        while (open.TryDequeue(out var parent))
            foreach (var child in children[parent])
                if (belonging.Add(child))
                    open.Enqueue(child);
        return belonging;
    }

    /// <summary>All processes, or, where only those with the mark count, these.</summary>
    /// <param name="variable">NAME=VALUE, exactly.</param>
    public static List<MarkSight> Look(string variable, bool withoutMark)
    {
        var wanted = Encoding.UTF8.GetBytes(variable);
        var seen = new List<MarkSight>();
        // Neither this process nor whoever began it, also where somebody began them inside of a run.
        int[] own = [Environment.ProcessId, ProcessFacts.Parent(Environment.ProcessId)];
        foreach (var pid in ProcessFacts.All())
        {
            var marked = ProcessFacts.RestOfVariable(pid, wanted) is "";
            if ((!marked && !withoutMark) || own.Contains(pid) || ProcessFacts.Users(pid) is not { } users)
                continue;
            var stat = ProcessFacts.StatOf(pid);
            seen.Add(new(pid, (int)ProcessFacts.Field(stat, 4), ProcessFacts.Field(stat, 22), marked, users));
        }

        return seen;
    }

    /// <summary>Processes that are being ended, each held by its descriptor until it is gone.</summary>
    public sealed class Ending(string variable, IReadOnlyCollection<uint> accounts, bool withoutMark) : IDisposable
    {
        private readonly Dictionary<(int Pid, long Began), ProcessHandle> held = [];

        /// <summary>How many there were.</summary>
        public int Count => held.Count;

        /// <summary>Those that are still there.</summary>
        public IEnumerable<int> Left =>
            held
                .Keys.Where(one => ProcessFacts.Stat(one.Pid, 22) == one.Began && ProcessFacts.Lives(one.Pid))
                .Select(one => one.Pid);

        /// <summary>
        /// Ends what there is. First all of them are stopped: what one of them begins while the others are being looked for has a parent
        /// that is gone a moment later, and is known by that parent alone.
        /// </summary>
        public void End()
        {
            const int mostRounds = 20;
            for (var round = 0; round < mostRounds && Hold(); round++) { }
            foreach (var process in held.Values)
                _ = process.End();
        }

        /// <returns>Whether there were any that were not held yet.</returns>
        private bool Hold()
        {
            var seen = Look(variable, withoutMark).ToDictionary(one => one.Pid);
            var more = false;
            foreach (var pid in Belonging(seen.Values, accounts, withoutMark))
            {
                var one = (pid, seen[pid].Began);
                if (held.ContainsKey(one) || ProcessHandle.Open(pid) is not { } process)
                    continue;
                if (ProcessFacts.Stat(pid, 22) != one.Began || !ProcessFacts.Lives(pid))
                {
                    process.Dispose(); // another has its number by now, or it has ended
                    continue;
                }

                _ = process.Signal(Libc.SIGSTOP);
                held.Add(one, process);
                more = true;
            }

            return more;
        }

        public void Dispose()
        {
            foreach (var process in held.Values)
                process.Dispose();
        }
    }
}
