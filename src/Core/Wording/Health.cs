using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Wording;

public enum HealthLevel
{
    Unknown,
    Good,
    Poor,
}

/// <summary>How well a service does, beside what state it is in.</summary>
/// <param name="Evidence">What shows it, as a clause.</param>
/// <param name="Since">Since when; null while it is unknown.</param>
public readonly record struct Health(HealthLevel Level, string Evidence, DateTimeOffset? Since)
{
    public static Health Of(Definition definition, Situation now)
    {
        if (now.Awaited is { Overdue: true } awaited)
            return new(
                HealthLevel.Poor,
                "what it waits for did not come in time",
                awaited.Needs.Where(need => need is { Told: true, Open: true }).Min(need => (DateTimeOffset?)need.Limit)
            );
        if (now.Run is { Overdue: true } late)
            return new(
                HealthLevel.Poor,
                $"it is not ready: {late.Missing ?? "nothing was seen"}",
                late.Launched + definition.Begin.Proof.Within
            );
        if (now is not { Phase: Phase.Running, Run: { } run })
            return new(HealthLevel.Unknown, "it is not running", null);
        if (run.Switch == Switch.On && definition.Watch.IsEmpty)
            return new(HealthLevel.Unknown, "it is on, and nothing watches it", null);
        if (now.WatchesPausedUntil is not null)
            return new(HealthLevel.Unknown, "its watches are paused", null);
        var poor = run.Watched.Where(watched => watched.PoorSince is not null).ToList();
        if (poor.Count > 0)
            return new(
                HealthLevel.Poor,
                string.Join("; ", poor.Select(watched => watched.Seen)),
                poor.Min(watched => watched.PoorSince)
            );
        var asked = definition.Watch.Count(Counts);
        var looked = run
            .Watched.Where((watched, i) => watched.Since is not null && Counts(definition.Watch[i]))
            .ToList();
        if (looked.Count == 0)
            return new(HealthLevel.Good, run.Proof ?? "it is running", run.Proven);
        var doubtful = looked.Where(watched => watched.Bad > 0).Select(watched => watched.Seen).ToList();
        return new(
            HealthLevel.Good,
            doubtful.Count > 0 ? $"not yet poor, but {string.Join("; ", doubtful)}"
                : looked.Count == 1 && asked == 1 ? looked[0].Seen!
                : $"all {asked} of its watches are good",
            run.Proven
        );

        // What nobody asked for is no evidence of serving, but for an answer of the program's own.
        static bool Counts(Watch watch) => !watch.Implied || watch is AnswerWatch;
    }
}
