using CalmSentry.Core.Availability;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Wording;

/// <summary>Whether a service asks for a person, and for what.</summary>
public static class Attention
{
    /// <returns>A clause, or null: nobody is needed.</returns>
    public static string? Of(Definition definition, Situation now)
    {
        switch (now.Phase)
        {
            case Phase.Held:
                return now.WakeAt is null
                    ? "it is on hold, and nothing is tried by itself"
                    : "it is on hold; it is tried again by itself now and then";
            case Phase.Stopped when ServiceTimes.Of(now) == ServiceTime.Fallen:
                return $"it fell and is not begun again: it {OutcomeWords.Of(now.LastEnd!.Outcome)}";
        }

        // What is only to be noted asks for nobody.
        var poor =
            now.Run?.Watched.Where(
                    (watched, i) =>
                        watched.PoorSince is not null
                        && i < definition.Watch.Length
                        && definition.Watch[i].Follows != WatchFollow.Note
                )
                .Select(watched => watched.Seen)
                .ToList()
            ?? [];
        if (poor.Count > 0)
            return string.Join("; ", poor);
        return now.Awaited is { Overdue: true } || now.Run is { Overdue: true }
            ? Health.Of(definition, now).Evidence
            : null;
    }
}
