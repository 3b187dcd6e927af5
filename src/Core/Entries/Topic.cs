using System.Collections.Frozen;

namespace CalmSentry.Core.Entries;

/// <summary>
/// What a person may be told of, the worst first: of several, the first is what an alert is called by. The words of settings and messages
/// are these names with dashes.
/// </summary>
public enum Topic
{
    Held,
    Down,
    StartFailed,
    RestartFailed,
    NotReady,
    Poor,
    NeedMissing,
    JobOverdue,
    JobFailed,
    JobMissed,
    JobLate,
    SwapFailed,
    Asks,
    Memory,
    MachineMemory,
    Disk,
    Copy,
    Expiring,
    Logbook,
    Unclean,
    Settings,
    Boot,
    Apart,
    Withheld,
    FailsOften,
    CameBack,
    Restarted,
}

public enum Urgency
{
    /// <summary>It keeps until the recipient's hours begin.</summary>
    CanWait,

    /// <summary>Somebody should act soon, whatever the hour.</summary>
    Urgent,
}

/// <summary>What is so of every alert about a topic.</summary>
/// <param name="Clause">What is so, as a clause that follows the name of a service.</param>
/// <param name="Meaning">What it is told for, to whoever chooses topics, as a clause.</param>
public sealed record TopicTraits(string Clause, string Meaning, Urgency Urgency, Lasting Lasting)
{
    /// <summary>It goes on until something ends it; else it has happened, and that is all.</summary>
    public bool Lasts => Lasting != Lasting.No;

    /// <summary>It is a trouble of the service itself: what else befalls the service meanwhile is one story with it.</summary>
    public bool Joins => Lasting == Lasting.Trouble;
}

/// <summary>How long what is told of goes on.</summary>
public enum Lasting
{
    /// <summary>It has happened, and that is all.</summary>
    No,

    /// <summary>Until the service is well again.</summary>
    Trouble,

    /// <summary>Until it is not so any more, whatever else befalls the service: it is an alert of its own.</summary>
    WhileSo,

    /// <summary>Until an entry says that it is over: an alert of its own as well.</summary>
    UntilSaid,

    /// <summary>Until then, or until somebody has acknowledged it.</summary>
    UntilSeen,
}

public static class Topics
{
    private static readonly FrozenDictionary<Topic, TopicTraits> traits = new Dictionary<Topic, TopicTraits>
    {
        [Topic.Held] = new(
            "is on hold",
            "it is on hold: the sentry has given up for now",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.Down] = new(
            "failed and stays stopped",
            "it failed and will not be restarted automatically",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.StartFailed] = new(
            "could not be started",
            "it failed before it was ready, and stays stopped",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.RestartFailed] = new(
            "did not come up in its planned restart",
            "what its planned restart started failed; recovery goes on",
            Urgency.CanWait,
            Lasting.Trouble
        ),
        [Topic.NotReady] = new(
            "runs, but is not ready",
            "it runs, but was not ready in time",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.Poor] = new("is not well", "a watch finds it in a poor state", Urgency.Urgent, Lasting.Trouble),
        [Topic.NeedMissing] = new(
            "waits for something it needs",
            "something it needs did not come in time",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.JobOverdue] = new(
            "has had no successful run for too long",
            "no run of a job has succeeded for longer than its success-within",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.JobFailed] = new(
            "failed",
            "the last run of a job failed, after all its tries",
            Urgency.Urgent,
            Lasting.Trouble
        ),
        [Topic.JobMissed] = new(
            "missed planned runs",
            "planned runs of a job did not take place",
            Urgency.CanWait,
            Lasting.No
        ),
        [Topic.JobLate] = new(
            "is late",
            "a run of a job is not done within its late-after",
            Urgency.CanWait,
            Lasting.WhileSo
        ),
        [Topic.SwapFailed] = new(
            "did not take its new files",
            "new program files did not do",
            Urgency.CanWait,
            Lasting.No
        ),
        [Topic.Asks] = new(
            "asks for somebody",
            "the program itself asks for somebody, or asks at its terminal or in a window",
            Urgency.Urgent,
            Lasting.UntilSeen
        ),
        [Topic.Memory] = new(
            "will reach its limit of memory",
            "its memory will soon reach its limit as it grows",
            Urgency.CanWait,
            Lasting.Trouble
        ),
        [Topic.MachineMemory] = new(
            "will run out of memory",
            "the machine's memory will run out within a day",
            Urgency.CanWait,
            Lasting.No
        ),
        [Topic.Disk] = new("will fill its disk", "a disk will be full soon", Urgency.CanWait, Lasting.No),
        [Topic.Copy] = new(
            "runs twice: a copy was started outside the sentry",
            "a second copy of the running program was started outside the sentry",
            Urgency.CanWait,
            Lasting.UntilSaid
        ),
        [Topic.Expiring] = new(
            "uses something that expires",
            "an account or a certificate that it uses expires within 14 days, or has expired",
            Urgency.CanWait,
            Lasting.No
        ),
        [Topic.Logbook] = new(
            "has a logbook that was changed",
            "the logbook is not as it was written",
            Urgency.Urgent,
            Lasting.No
        ),
        [Topic.Unclean] = new(
            "had its sentry end without being asked to",
            "the sentry itself ended without being asked to, and was started again",
            Urgency.CanWait,
            Lasting.No
        ),
        [Topic.Settings] = new(
            "has a mistake in its settings",
            "the sentry's settings have a mistake; what was good before holds",
            Urgency.CanWait,
            Lasting.UntilSaid
        ),
        [Topic.Boot] = new("came up", "the machine came up: how its services started", Urgency.CanWait, Lasting.No),
        [Topic.Apart] = new(
            "differs from its files",
            "its definition was changed here, and is not what its files say any more",
            Urgency.CanWait,
            Lasting.UntilSaid
        ),
        [Topic.Withheld] = new(
            "had alerts while it was quiet",
            "what a quiet time kept back",
            Urgency.CanWait,
            Lasting.No
        ),
        [Topic.FailsOften] = new(
            "fails again and again",
            "it failed five times within an hour, and was restarted each time",
            Urgency.CanWait,
            Lasting.Trouble
        ),
        [Topic.CameBack] = new("runs again", "it runs again after failures", Urgency.CanWait, Lasting.No),
        [Topic.Restarted] = new(
            "failed and was restarted",
            "it failed and was restarted: each time",
            Urgency.CanWait,
            Lasting.Trouble
        ),
    }.ToFrozenDictionary();

    /// <exception cref="KeyNotFoundException">A topic without traits: a mistake of the sentry's own.</exception>
    public static TopicTraits Of(Topic topic) => traits[topic];

    /// <summary>A recipient that names no topics hears of these.</summary>
    public static bool IsUsual(Topic topic) => topic is not (Topic.Restarted or Topic.CameBack or Topic.Apart);
}
