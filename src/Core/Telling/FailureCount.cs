using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Telling;

/// <summary>
/// Counts the failures of each service after which it was restarted, and says when there are too many within a time. An entry counts
/// once, however often it is looked at.
/// </summary>
public sealed class FailureCount
{
    private readonly Dictionary<string, Queue<(long Entry, DateTimeOffset At)>> failures = new(StringComparer.Ordinal);

    public static bool IsFailure(Entry entry) =>
        entry is { Code: EntryCode.Fell or EntryCode.NeverLaunched, Next: EntryNext.Restart };

    /// <returns>Whether this one makes too many.</returns>
    public bool Add(long number, string service, DateTimeOffset at, Pace pace)
    {
        if (!failures.TryGetValue(service, out var some))
            failures[service] = some = new();
        if (some.Count == 0 || some.Last().Entry < number)
            some.Enqueue((number, at));
        while (some.Count > pace.Often || (some.TryPeek(out var first) && at - first.At > pace.OftenWithin))
            some.Dequeue();
        return some.Count >= pace.Often;
    }

    /// <summary>What is too old to count; and services that are not there any more.</summary>
    public void Forget(DateTimeOffset now, Pace pace)
    {
        foreach (var (service, some) in failures.ToList())
            if (some.Count == 0 || now - some.Last().At > pace.OftenWithin)
                failures.Remove(service);
    }
}
