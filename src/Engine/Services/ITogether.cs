using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Engine.Services;

/// <summary>What one service has done to several of them together.</summary>
internal interface ITogether
{
    /// <summary>Winds services down in order: each as soon as all that need it are down.</summary>
    Task Stop(IReadOnlySet<string> names, Principal by);

    /// <summary>Whether a run was begun with new files that are judged by how it fares.</summary>
    bool Judges(ServiceId service, RunNumber run);

    /// <summary>A planned restart is due and can be done: it is carried out with those that are due with it.</summary>
    /// <param name="moment">The one it is due for.</param>
    Task Restart(ServiceActor service, DateTimeOffset moment, CancellationToken gone);
}
