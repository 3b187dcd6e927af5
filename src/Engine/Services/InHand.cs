using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Engine.Services;

/// <summary>Something that stops services for a while and brings them back.</summary>
/// <param name="What">In words: <c>a drill</c>.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="Ends">Until when it is, as it stands, as a clause.</param>
internal sealed record Engagement(string What, Principal By, DateTimeOffset Began, Func<string> Ends);

/// <summary>Somebody else has a service in hand; nothing was done.</summary>
internal sealed class BusyException(string service, Engagement with) : Exception($"{with.What} has {service} in hand")
{
    public string Service => service;

    public Engagement With => with;
}

/// <summary>
/// Who has which service in hand: whoever stops one for a while and is to bring it back has it alone. A stop that somebody asks for,
/// and a shutdown, ask nobody.
/// </summary>
internal sealed class InHand
{
    private readonly Lock gate = new();
    private readonly Dictionary<string, Engagement> all = new(StringComparer.Ordinal);

    /// <exception cref="BusyException">One of them is in somebody's hand; none was taken.</exception>
    public void Take(IEnumerable<string> services, Engagement by)
    {
        lock (gate)
        {
            var wanted = services.ToList();
            foreach (var service in wanted)
                if (all.TryGetValue(service, out var other))
                    throw new BusyException(service, other);
            wanted.ForEach(service => all[service] = by);
        }
    }

    /// <summary>As a server before this one had them.</summary>
    public void TakeUp(IEnumerable<string> services, Engagement by)
    {
        lock (gate)
            foreach (var service in services)
                all.TryAdd(service, by);
    }

    public void Leave(Engagement by)
    {
        lock (gate)
            foreach (var service in all.Where(one => ReferenceEquals(one.Value, by)).Select(one => one.Key).ToList())
                all.Remove(service);
    }

    /// <returns>Null: none of them is.</returns>
    public (string Service, Engagement With)? Of(IEnumerable<string> services)
    {
        lock (gate)
            foreach (var service in services)
                if (all.TryGetValue(service, out var with))
                    return (service, with);
        return null;
    }
}
