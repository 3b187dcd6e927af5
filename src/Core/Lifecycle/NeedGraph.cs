using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Lifecycle;

/// <summary>
/// Which services need which. Needed ones begin first, dependents stop first. A service that is named but not there has
/// no
/// needs of its own. Circles are refused when a definition is taken in; one that got in all the same has its last link
/// left out.
/// </summary>
public sealed class NeedGraph
{
    private readonly SortedDictionary<string, List<string>> needs = new(StringComparer.Ordinal);
    private readonly Dictionary<string, List<string>> dependents = new(StringComparer.Ordinal);

    public NeedGraph(IEnumerable<Definition> services)
    {
        foreach (var service in services)
            needs[service.Name] = [.. service.Begin.NeededServices];
        foreach (var name in needs.Keys.ToList())
        {
            foreach (var needed in needs[name].ToList())
            {
                if (!needs.ContainsKey(needed))
                    needs[name].Remove(needed);
                else if (CircleFrom(name) is not null)
                    needs[name].Remove(needed);
            }
        }

        foreach (var (name, all) in needs)
        foreach (var needed in all)
            (dependents.TryGetValue(needed, out var list) ? list : dependents[needed] = []).Add(name);
    }

    private NeedGraph(SortedDictionary<string, List<string>> needs) => this.needs = needs;

    /// <summary>Every service, each after all it needs; among equals by name.</summary>
    public IReadOnlyList<string> BeginOrder
    {
        get
        {
            var order = new List<string>();
            var seen = new HashSet<string>(StringComparer.Ordinal);
            foreach (var name in needs.Keys)
                Visit(name);
            return order;

            void Visit(string name)
            {
                if (!seen.Add(name))
                    return;
                foreach (var needed in needs[name])
                    Visit(needed);
                order.Add(name);
            }
        }
    }

    public IReadOnlyList<string> NeedsOf(string service) => needs.GetValueOrDefault(service) ?? [];

    public IReadOnlyList<string> DependentsOf(string service) => dependents.GetValueOrDefault(service) ?? [];

    /// <summary>The services and everything they need, directly or through others.</summary>
    public IReadOnlySet<string> WithNeeds(IEnumerable<string> services) => Closed(services, NeedsOf);

    /// <summary>The services and everything that needs them, directly or through others.</summary>
    public IReadOnlySet<string> WithDependents(IEnumerable<string> services) => Closed(services, DependentsOf);

    /// <summary>
    /// The circle a definition would close, beginning and ending with its name; null when it closes none.
    /// </summary>
    public static IReadOnlyList<string>? Circle(Definition added, IEnumerable<Definition> services)
    {
        var needs = new SortedDictionary<string, List<string>>(StringComparer.Ordinal);
        foreach (var service in services)
            needs[service.Name] = [.. service.Begin.NeededServices];
        needs[added.Name] = [.. added.Begin.NeededServices];
        return new NeedGraph(needs).CircleFrom(added.Name);
    }

    /// <summary>
    /// When each service would be proven, if it took so long from its launch, counted from the beginning of all.
    /// </summary>
    /// <param name="took">Time from launch to proof.</param>
    public IReadOnlyDictionary<string, TimeSpan> Expected(Func<string, TimeSpan> took)
    {
        var at = new Dictionary<string, TimeSpan>(StringComparer.Ordinal);
        foreach (var name in BeginOrder)
            at[name] = NeedsOf(name).Select(needed => at[needed]).Append(TimeSpan.Zero).Max() + took(name);
        return at;
    }

    /// <summary>When each service would be down, if its stop took so long, counted from the first stop.</summary>
    public IReadOnlyDictionary<string, TimeSpan> ExpectedStop(Func<string, TimeSpan> took)
    {
        var at = new Dictionary<string, TimeSpan>(StringComparer.Ordinal);
        foreach (var name in BeginOrder.Reverse())
            at[name] = DependentsOf(name).Select(dependent => at[dependent]).Append(TimeSpan.Zero).Max() + took(name);
        return at;
    }

    private static HashSet<string> Closed(IEnumerable<string> from, Func<string, IReadOnlyList<string>> next)
    {
        var all = new HashSet<string>(from, StringComparer.Ordinal);
        var open = new Queue<string>(all);
        while (open.TryDequeue(out var name))
            foreach (var other in next(name).Where(all.Add))
                open.Enqueue(other);
        return all;
    }

    private List<string>? CircleFrom(string start)
    {
        var path = new List<string>();
        var dead = new HashSet<string>(StringComparer.Ordinal);
        return Follow(start) ? [.. path, start] : null;

        bool Follow(string name)
        {
            path.Add(name);
            foreach (var needed in needs.GetValueOrDefault(name) ?? [])
                if (needed == start || (dead.Add(needed) && Follow(needed)))
                    return true;
            path.RemoveAt(path.Count - 1);
            return false;
        }
    }
}
