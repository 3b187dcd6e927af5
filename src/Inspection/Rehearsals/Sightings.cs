using CalmSentry.Linux.Files;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Inspection.Rehearsals;

/// <summary>What a tree of processes was seen to do, looked at again and again.</summary>
internal sealed class Sightings(uint owner, DateTime since)
{
    private readonly SortedSet<string> files = new(StringComparer.Ordinal);

    public List<Listening> Ports { get; } = [];

    public long PeakBytes { get; private set; }

    public int MostProcesses { get; private set; }

    /// <param name="ours">Files that belong to the watching, not to the program.</param>
    public void Look(IReadOnlyList<int> tree, IReadOnlyList<string> ours)
    {
        MostProcesses = Math.Max(MostProcesses, tree.Count);
        PeakBytes = Math.Max(PeakBytes, tree.Sum(ProcessFacts.OwnMemory));
        foreach (var (socket, _) in Listening.Of(tree))
            if (
                !Ports.Exists(known =>
                    known.Protocol == socket.Protocol
                    && known.Port == socket.Port
                    && known.Address.Equals(socket.Address)
                )
            )
                Ports.Add(socket);
        foreach (var file in tree.SelectMany(ProcessFacts.WrittenFiles))
            if (!ours.Contains(file) && !IsTheKernels(file))
                files.Add(file);
    }

    /// <summary>Words to the kernel, such as a process that joins a control group, are no files that it leaves.</summary>
    private static bool IsTheKernels(string file) =>
        file.StartsWith("/sys/", StringComparison.Ordinal) || file.StartsWith("/proc/", StringComparison.Ordinal);

    /// <summary>
    /// Files seen open for writing, and files of the account under the roots that were written meanwhile.
    /// </summary>
    public IReadOnlyList<string> Files(IEnumerable<string> roots, Func<string, bool> ours)
    {
        files.UnionWith(FileFacts.WrittenSince(since, roots, owner));
        files.RemoveWhere(file => ours(file));
        return [.. files.Take(100)];
    }
}
