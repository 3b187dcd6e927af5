using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Lifecycle;

/// <summary>Whether what was told of a service is still so.</summary>
public static class StillSo
{
    public static bool Holds(Topic topic, Definition definition, Situation now) =>
        topic switch
        {
            Topic.Held => now.Phase == Phase.Held,
            Topic.Down or Topic.StartFailed => now.Phase == Phase.Stopped && ServiceTimes.Of(now) == ServiceTime.Fallen,
            Topic.RestartFailed => now.Phase is Phase.Waiting or Phase.Starting or Phase.Stopping or Phase.Held,
            Topic.NotReady => now.Run is { Overdue: true },
            Topic.NeedMissing => now.Awaited is { Overdue: true },
            Topic.Poor => IsPoor(definition, now, watch => watch is not (CeilingWatch or QuestionWatch)),
            Topic.Memory => IsPoor(definition, now, watch => watch is CeilingWatch),
            Topic.JobFailed => now.LastEnd is { Bad: true } && now.Rhythm is not null,
            Topic.JobOverdue => now.Rhythm is { Overdue: true },
            Topic.JobLate => now.Rhythm is { ToldLate: { } moment } rhythm
                && (rhythm.Slot == moment || rhythm.Queued?.At == moment),
            Topic.Asks => true, // until somebody says otherwise
            _ => false,
        };

    private static bool IsPoor(Definition definition, Situation now, Func<Watch, bool> about) =>
        now.Run is { } run
        && definition.Watch.Zip(run.Watched).Any(pair => about(pair.First) && pair.Second.PoorSince is not null);
}
