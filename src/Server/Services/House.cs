using CalmSentry.Contract;
using CalmSentry.Linux.Groups;
using CalmSentry.Linux.Processes;
using CalmSentry.Server.Events;
using CalmSentry.Store;

namespace CalmSentry.Server.Services;

/// <summary>What every service needs of the sentry it lives in.</summary>
internal sealed record House(Places Places, SentryStore Store, EventHub Events, ControlGroups Groups, KeeperStarter Keepers, TimeProvider Clock)
{
    public DateTimeOffset Now => Clock.GetUtcNow();

    /// <summary>Writes an entry into the logbook and tells whoever listens.</summary>
    public void Log(string? service, string what, string text, string? by = null)
    {
        var at = Now;
        var id = Store.Log(at, service, what, text, by);
        Events.Logged(new(id, at, service, what, text, by));
    }
}
