using System.Collections.Immutable;
using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Telling;

/// <summary>Counts the failures of each service after which it was restarted, and says when there are too many within a time.</summary>
public sealed record FailureCount
{
    public static FailureCount None { get; } = new();

    private ImmutableDictionary<string, ImmutableArray<DateTimeOffset>> Failures { get; init; } =
        ImmutableDictionary.Create<string, ImmutableArray<DateTimeOffset>>(StringComparer.Ordinal);

    public static bool IsFailure(Entry entry) => entry is FellEntry { IsRestartedFailure: true };

    /// <returns>With one more, and whether it makes too many.</returns>
    public (FailureCount After, bool IsOften) With(string service, DateTimeOffset at, Pace pace)
    {
        var some = Failures.GetValueOrDefault(service, []).Append(at).TakeLast(pace.Often);
        ImmutableArray<DateTimeOffset> lately = [.. some.Where(one => at - one <= pace.OftenWithin)];
        return (new() { Failures = Failures.SetItem(service, lately) }, lately.Length >= pace.Often);
    }

    public FailureCount Renamed(string was, string now) =>
        Failures.TryGetValue(was, out var failures)
            ? new() { Failures = Failures.Remove(was).SetItem(now, failures) }
            : this;

    /// <summary>Without what is too old to count, and services that are not there any more.</summary>
    public FailureCount Lately(DateTimeOffset now, Pace pace)
    {
        var old = Failures.Where(one => now - one.Value[^1] > pace.OftenWithin).Select(one => one.Key).ToList();
        return old.Count == 0 ? this : new() { Failures = Failures.RemoveRange(old) };
    }
}
