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

    /// <summary>The start of its planned restart failed; recovery goes on.</summary>
    RestartFailed,

    /// <summary>It runs, but was not ready in time.</summary>
    NotReady,

    /// <summary>A watch finds it in a poor state.</summary>
    Poor,

    /// <summary>Something that it needs did not come in time.</summary>
    NeedMissing,

    /// <summary>No run of a job has succeeded for longer than it may be.</summary>
    JobOverdue,

    /// <summary>The last run of a job failed.</summary>
    JobFailed,

    /// <summary>Planned runs of a job did not take place.</summary>
    JobMissed,

    /// <summary>A run of a job is not done so long after its moment.</summary>
    JobLate,

    /// <summary>New program files did not do: the files before came back, or it does not run.</summary>
    SwapFailed,

    /// <summary>The program itself asks for somebody.</summary>
    Asks,

    /// <summary>As its memory grows, it reaches its limit soon.</summary>
    Memory,

    /// <summary>The machine's memory will run out soon.</summary>
    MachineMemory,

    /// <summary>A disk will be full soon.</summary>
    Disk,

    /// <summary>A second copy of the program runs, which the sentry did not start.</summary>
    Copy,

    /// <summary>An account or a certificate that it uses ends soon, or has ended.</summary>
    Expiring,

    /// <summary>The logbook is not as it was written.</summary>
    Logbook,

    /// <summary>The sentry itself ended without being asked to, and was started again by its guard.</summary>
    Unclean,

    /// <summary>The machine came up: how its services started.</summary>
    Boot,

    /// <summary>What a quiet time kept back.</summary>
    Withheld,

    /// <summary>It fails again and again, and was restarted each time so far.</summary>
    FailsOften,

    /// <summary>It runs again after failures.</summary>
    CameBack,

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
                EntryCode.Unwell => entry.Name == Entry.MemoryGrows ? Topic.Memory : Topic.Poor,
                EntryCode.Fell or EntryCode.NeverLaunched when isJob => Topic.JobFailed,
                EntryCode.NeverLaunched => Topic.StartFailed,
                EntryCode.Fell => entry.FailedStart ? Topic.StartFailed : Topic.Down,
                EntryCode.MomentsMissed => Topic.JobMissed,
                EntryCode.SwapReturned or EntryCode.SwapDown => Topic.SwapFailed,
                EntryCode.Noted => Topic.Asks,
                EntryCode.RestartFailed => Topic.RestartFailed,
                EntryCode.JobLate => Topic.JobLate,
                EntryCode.JobOverdue => Topic.JobOverdue,
                EntryCode.MemoryWillFill => Topic.MachineMemory,
                EntryCode.DiskWillFill => Topic.Disk,
                EntryCode.CopySeen => Topic.Copy,
                EntryCode.Found => Topic.Expiring,
                EntryCode.LogbookBroken => Topic.Logbook,
                EntryCode.QuietOver => Topic.Withheld,
                _ => null,
            }
            : entry.Code switch
            {
                EntryCode.Guard => Topic.Unclean,
                EntryCode.Boot => Topic.Boot,
                EntryCode.Unwell when entry is { Name: Entry.MemoryGrows, Next: EntryNext.Nothing } => Topic.Memory,
                _ when isJob => null,
                EntryCode.Proven when entry.Count > 0 => Topic.CameBack,
                EntryCode.Fell or EntryCode.NeverLaunched when entry.Next == EntryNext.Restart => Topic.Restarted,
                _ => null,
            };

    /// <summary>All that an entry is about.</summary>
    /// <param name="often">It makes too many failures within a time.</param>
    public static IEnumerable<Topic> All(Entry entry, bool tells, bool isJob, bool often)
    {
        if (Of(entry, tells, isJob) is { } topic)
            yield return topic;
        if (often && !isJob)
            yield return Topic.FailsOften;
    }

    /// <summary>It goes on until something ends it; else it has happened, and that is all.</summary>
    public static bool Lasts(Topic topic) =>
        topic
            is Topic.Held
                or Topic.Down
                or Topic.StartFailed
                or Topic.RestartFailed
                or Topic.NotReady
                or Topic.Poor
                or Topic.NeedMissing
                or Topic.JobOverdue
                or Topic.JobFailed
                or Topic.Memory
                or Topic.FailsOften
                or Topic.Restarted;

    public static Urgency UrgencyOf(Topic topic) =>
        topic
            is Topic.Restarted
                or Topic.FailsOften
                or Topic.CameBack
                or Topic.RestartFailed
                or Topic.JobLate
                or Topic.Memory
                or Topic.MachineMemory
                or Topic.Copy
                or Topic.Expiring
                or Topic.Disk
                or Topic.Withheld
                or Topic.JobMissed
                or Topic.SwapFailed
                or Topic.Unclean
                or Topic.Boot
            ? Urgency.CanWait
            : Urgency.Urgent;

    /// <summary>A recipient that names no topics hears of these.</summary>
    public static bool IsUsual(Topic topic) => topic is not (Topic.Restarted or Topic.CameBack);

    /// <summary>What is so, as a clause that follows the name of a service.</summary>
    public static string Clause(Topic topic) =>
        topic switch
        {
            Topic.Held => "is on hold",
            Topic.Down => "failed and stays stopped",
            Topic.StartFailed => "could not be started",
            Topic.RestartFailed => "did not come up in its planned restart",
            Topic.NotReady => "runs, but is not ready",
            Topic.Poor => "is not well",
            Topic.NeedMissing => "waits for something it needs",
            Topic.JobOverdue => "has had no successful run for too long",
            Topic.JobFailed => "failed",
            Topic.JobLate => "is late",
            Topic.JobMissed => "missed planned runs",
            Topic.SwapFailed => "did not take its new files",
            Topic.Asks => "asks for somebody",
            Topic.Memory => "will reach its limit of memory",
            Topic.MachineMemory => "will run out of memory",
            Topic.Disk => "will fill its disk",
            Topic.Copy => "runs twice: a copy was started outside the sentry",
            Topic.Expiring => "uses something that expires",
            Topic.Logbook => "has a logbook that was changed",
            Topic.Unclean => "had its sentry end without being asked to",
            Topic.Boot => "came up",
            Topic.Withheld => "had alerts while it was quiet",
            Topic.FailsOften => "fails again and again",
            Topic.CameBack => "runs again",
            _ => "failed and was restarted",
        };
}
