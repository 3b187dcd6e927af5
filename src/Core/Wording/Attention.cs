using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Wording;

/// <summary>Whether a service needs attention, and why.</summary>
public static class Attention
{
    /// <returns>A clause, or null: nobody is needed.</returns>
    public static string? Of(Definition definition, Situation now)
    {
        switch (now.Phase)
        {
            case Phase.Held:
                return now.WakeAt is null
                    ? "it is on hold until it is released"
                    : "it is on hold; Calm Sentry tries it again now and then";
            case Phase.Resting when now.LastEnd is { Bad: true, Outcome: var failed }:
                return $"its last run {OutcomeWords.Of(failed)}";
            case Phase.Stopped when ServiceTimes.Of(now) == ServiceTime.Fallen:
                return $"it will not be restarted automatically: it {OutcomeWords.Of(now.LastEnd!.Outcome)}";
        }

        if (
            now.Rhythm is { Overdue: true }
            && definition.Rhythm.OfType<PlannedRun>().Min(run => run.SuccessWithin) is { } within
        )
            return $"no run has succeeded within {Duration.Write(within)}";
        var poor =
            now.Run?.Watched.Where((watched, i) => watched.PoorSince is not null && NeedsAttention(definition, i))
                .Select(watched => watched.Seen)
                .ToList()
            ?? [];
        if (poor.Count > 0)
            return string.Join("; ", poor);
        return now.Awaited is { Overdue: true } || now.Run is { Overdue: true }
            ? Health.Of(definition, now).Evidence
            : null;
    }

    /// <summary>What is only to be noted needs nobody.</summary>
    private static bool NeedsAttention(Definition definition, int watch) =>
        watch < definition.Watch.Length && definition.Watch[watch].Follows != WatchFollow.Note;
}
