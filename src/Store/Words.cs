using CalmSentry.Core.Availability;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Store;

/// <summary>Stable words for what is kept and sent.</summary>
public static class Words
{
    public static string Of(Cause cause) =>
        cause switch
        {
            Cause.Asked => "asked",
            Cause.Boot => "boot",
            Cause.Drill => "drill",
            _ => "recovery",
        };

    public static string Of(OutcomeKind kind) =>
        kind switch
        {
            OutcomeKind.Exited => "exited",
            OutcomeKind.Signalled => "signalled",
            OutcomeKind.NeverLaunched => "never-launched",
            OutcomeKind.NotProven => "not-proven",
            OutcomeKind.Unwell => "unwell",
            OutcomeKind.KeeperLost => "keeper-lost",
            _ => "machine-lost",
        };

    public static OutcomeKind Kind(string word) => Enum.GetValues<OutcomeKind>().First(kind => Of(kind) == word);

    public static string Of(ServiceTime time) =>
        time switch
        {
            Core.Availability.ServiceTime.Up => "up",
            Core.Availability.ServiceTime.Fallen => "fallen",
            _ => "planned",
        };

    public static ServiceTime ServiceTime(string word) => Enum.GetValues<ServiceTime>().First(time => Of(time) == word);
}
