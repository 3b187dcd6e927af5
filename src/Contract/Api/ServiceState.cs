namespace CalmSentry.Contract.Api;

/// <summary>Where a service stands, as it is shown.</summary>
public enum ServiceState
{
    Stopped,
    Waiting,
    Starting,
    Running,
    Stopping,
    Resting,
    Held,

    /// <summary>Its stored definition cannot be read.</summary>
    Unreadable,
}
