using CalmSentry.Engine.Keepers;
using CalmSentry.Engine.Watching;

namespace CalmSentry.Engine.Begin;

/// <summary>All services, as one that needs some of them meets them.</summary>
internal interface IServices
{
    IWatched? Named(string name);

    /// <summary>Changes of state, for whoever waits for one.</summary>
    Readiness Readiness { get; }

    /// <summary>While a drill is under way, when it had the machine come up.</summary>
    DateTimeOffset? DrillBegan { get; }
}

/// <summary>A service that waits for its turn to be launched.</summary>
internal interface ITakesTurns : IRunning
{
    void TakeTurn();
}
