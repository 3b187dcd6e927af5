using CalmSentry.Engine.Services;
using CalmSentry.Linux.Processes;
using CalmSentry.Linux.Sockets;

namespace CalmSentry.Inspection.Drills;

/// <summary>
/// What services listen on at one moment: all processes and sockets are read once, however many services there are.
/// </summary>
internal sealed class OpenPorts
{
    private readonly ILookup<int, int> children = ProcessFacts.All().ToLookup(ProcessFacts.Parent);
    private readonly Dictionary<long, Listening> sockets = Listening
        .All()
        .GroupBy(one => one.Inode)
        .ToDictionary(same => same.Key, same => same.First());

    /// <summary>Addresses, such as <c>tcp 127.0.0.1:7411</c>, in order.</summary>
    public IReadOnlyList<string> Of(ServiceActor actor)
    {
        if (actor.Situation.Run?.Pid is not { } root)
            return [];
        var tree = new List<int> { root };
        for (var i = 0; i < tree.Count; i++)
            tree.AddRange(children[tree[i]]);
        return
        [
            .. tree.SelectMany(ProcessFacts.Sockets)
                .Where(sockets.ContainsKey)
                .Select(inode => sockets[inode].ToString())
                .Distinct()
                .Order(StringComparer.Ordinal),
        ];
    }
}
