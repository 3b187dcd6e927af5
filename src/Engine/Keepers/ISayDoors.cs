using CalmSentry.Core.Lifecycle;
using CalmSentry.Linux.Accounts;

namespace CalmSentry.Engine.Keepers;

/// <summary>The sockets on which programs speak of themselves, one for each service.</summary>
internal interface ISayDoors
{
    /// <summary>Opens a service's socket for its account.</summary>
    /// <exception cref="IOException">It cannot be made.</exception>
    void Open(IRunning service, Account account);

    void Close(ServiceId service);
}

/// <summary>Where nobody hears them.</summary>
internal sealed class NoSayDoors : ISayDoors
{
    public void Open(IRunning service, Account account) { }

    public void Close(ServiceId service) { }
}
