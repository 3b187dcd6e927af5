using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Telling;

/// <summary>What a person may be told of. The words of settings and messages are these names with dashes.</summary>
public enum Topic
{
    /// <summary>On hold: the sentry has given up for now.</summary>
    Held,

    /// <summary>It failed, and will not be restarted automatically.</summary>
    Down,

    /// <summary>It failed before it was ready, and will not be restarted automatically.</summary>
    StartFailed,

    /// <summary>It runs, but was not ready in time.</summary>
    NotReady,

    /// <summary>A watch finds it in a poor state.</summary>
    Poor,

    /// <summary>Something that it needs did not come in time.</summary>
    NeedMissing,

    /// <summary>The last run of a job failed.</summary>
    JobFailed,

    /// <summary>Planned runs of a job did not take place.</summary>
    JobMissed,

    /// <summary>New program files did not do: the files before came back, or it does not run.</summary>
    SwapFailed,

    /// <summary>The program itself asks for somebody.</summary>
    Asks,

    /// <summary>A disk will be full soon.</summary>
    Disk,

    /// <summary>The logbook is not as it was written.</summary>
    Logbook,

    /// <summary>The sentry itself ended without being asked to, and was started again by its guard.</summary>
    Unclean,

    /// <summary>The machine came up: how its services started.</summary>
    Boot,

    /// <summary>What a quiet time kept back.</summary>
    Withheld,

    /// <summary>It failed and was restarted.</summary>
    Restarted,
}

public enum Urgency
{
    /// <summary>It keeps until the recipient's hours begin.</summary>
    CanWait,

    /// <summary>Somebody should act soon, whatever the hour.</summary>
    Urgent,
}

/// <summary>Which entries are about what.</summary>
public static class Topics
{
    /// <param name="tells">A person is to hear of it.</param>
    /// <param name="isJob">It is about a job.</param>
    /// <returns>Null: nobody is told of such an entry.</returns>
    public static Topic? Of(Entry entry, bool tells, bool isJob) =>
        tells
            ? entry.Code switch
            {
                EntryCode.Held => Topic.Held,
                EntryCode.NeedMissing => Topic.NeedMissing,
                EntryCode.NotProven => Topic.NotReady,
                EntryCode.Unwell => Topic.Poor,
                EntryCode.Fell or EntryCode.NeverLaunched when isJob => Topic.JobFailed,
                EntryCode.NeverLaunched => Topic.StartFailed,
                EntryCode.Fell => entry.FailedStart ? Topic.StartFailed : Topic.Down,
                EntryCode.MomentsMissed => Topic.JobMissed,
                EntryCode.SwapReturned or EntryCode.SwapDown => Topic.SwapFailed,
                EntryCode.Noted => Topic.Asks,
                EntryCode.DiskWillFill => Topic.Disk,
                EntryCode.LogbookBroken => Topic.Logbook,
                EntryCode.QuietOver => Topic.Withheld,
                _ => null,
            }
            : entry.Code switch
            {
                EntryCode.Guard => Topic.Unclean,
                EntryCode.Boot => Topic.Boot,
                _ when isJob => null,
                EntryCode.Fell or EntryCode.NeverLaunched when entry.Next == EntryNext.Restart => Topic.Restarted,
                _ => null,
            };

    /// <summary>It goes on until something ends it; else it has happened, and that is all.</summary>
    public static bool Lasts(Topic topic) =>
        topic
            is Topic.Held
                or Topic.Down
                or Topic.StartFailed
                or Topic.NotReady
                or Topic.Poor
                or Topic.NeedMissing
                or Topic.JobFailed
                or Topic.Restarted;

    public static Urgency UrgencyOf(Topic topic) =>
        topic
            is Topic.Restarted
                or Topic.Disk
                or Topic.Withheld
                or Topic.JobMissed
                or Topic.SwapFailed
                or Topic.Unclean
                or Topic.Boot
            ? Urgency.CanWait
            : Urgency.Urgent;

    /// <summary>A recipient that names no topics hears of these.</summary>
    public static bool IsUsual(Topic topic) => topic is not Topic.Restarted;

    /// <summary>What is so, as a clause that follows the name of a service.</summary>
    public static string Clause(Topic topic) =>
        topic switch
        {
            Topic.Held => "is on hold",
            Topic.Down => "failed and stays stopped",
            Topic.StartFailed => "could not be started",
            Topic.NotReady => "runs, but is not ready",
            Topic.Poor => "is not well",
            Topic.NeedMissing => "waits for something it needs",
            Topic.JobFailed => "failed",
            Topic.JobMissed => "missed planned runs",
            Topic.SwapFailed => "did not take its new files",
            Topic.Asks => "asks for somebody",
            Topic.Disk => "will fill its disk",
            Topic.Logbook => "has a logbook that was changed",
            Topic.Unclean => "had its sentry end without being asked to",
            Topic.Boot => "came up",
            Topic.Withheld => "had alerts while it was quiet",
            _ => "failed and was restarted",
        };
}
