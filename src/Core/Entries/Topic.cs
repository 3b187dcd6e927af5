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
    Boot,
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
/// <param name="Lasts">It goes on until something ends it; else it has happened, and that is all.</param>
public sealed record TopicTraits(string Clause, string Meaning, Urgency Urgency, bool Lasts);

public static class Topics
{
    private static readonly FrozenDictionary<Topic, TopicTraits> traits = new Dictionary<Topic, TopicTraits>
    {
        [Topic.Held] = new("is on hold", "it is on hold: the sentry has given up for now", Urgency.Urgent, Lasts: true),
        [Topic.Down] = new(
            "failed and stays stopped",
            "it failed and will not be restarted automatically",
            Urgency.Urgent,
            Lasts: true
        ),
        [Topic.StartFailed] = new(
            "could not be started",
            "it failed before it was ready, and stays stopped",
            Urgency.Urgent,
            Lasts: true
        ),
        [Topic.RestartFailed] = new(
            "did not come up in its planned restart",
            "what its planned restart started failed; recovery goes on",
            Urgency.CanWait,
            Lasts: true
        ),
        [Topic.NotReady] = new(
            "runs, but is not ready",
            "it runs, but was not ready in time",
            Urgency.Urgent,
            Lasts: true
        ),
        [Topic.Poor] = new("is not well", "a watch finds it in a poor state", Urgency.Urgent, Lasts: true),
        [Topic.NeedMissing] = new(
            "waits for something it needs",
            "something it needs did not come in time",
            Urgency.Urgent,
            Lasts: true
        ),
        [Topic.JobOverdue] = new(
            "has had no successful run for too long",
            "no run of a job has succeeded for longer than its success-within",
            Urgency.Urgent,
            Lasts: true
        ),
        [Topic.JobFailed] = new(
            "failed",
            "the last run of a job failed, after all its tries",
            Urgency.Urgent,
            Lasts: true
        ),
        [Topic.JobMissed] = new(
            "missed planned runs",
            "planned runs of a job did not take place",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.JobLate] = new(
            "is late",
            "a run of a job is not done within its late-after",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.SwapFailed] = new(
            "did not take its new files",
            "new program files did not do",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.Asks] = new("asks for somebody", "the program itself asks for somebody", Urgency.Urgent, Lasts: false),
        [Topic.Memory] = new(
            "will reach its limit of memory",
            "its memory will soon reach its limit as it grows",
            Urgency.CanWait,
            Lasts: true
        ),
        [Topic.MachineMemory] = new(
            "will run out of memory",
            "the machine's memory will run out within a day",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.Disk] = new("will fill its disk", "a disk will be full soon", Urgency.CanWait, Lasts: false),
        [Topic.Copy] = new(
            "runs twice: a copy was started outside the sentry",
            "a second copy of the running program was started outside the sentry",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.Expiring] = new(
            "uses something that expires",
            "an account or a certificate that it uses expires within 14 days, or has expired",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.Logbook] = new(
            "has a logbook that was changed",
            "the logbook is not as it was written",
            Urgency.Urgent,
            Lasts: false
        ),
        [Topic.Unclean] = new(
            "had its sentry end without being asked to",
            "the sentry itself ended without being asked to, and was started again",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.Boot] = new("came up", "the machine came up: how its services started", Urgency.CanWait, Lasts: false),
        [Topic.Withheld] = new(
            "had alerts while it was quiet",
            "what a quiet time kept back",
            Urgency.CanWait,
            Lasts: false
        ),
        [Topic.FailsOften] = new(
            "fails again and again",
            "it failed five times within an hour, and was restarted each time",
            Urgency.CanWait,
            Lasts: true
        ),
        [Topic.CameBack] = new("runs again", "it runs again after failures", Urgency.CanWait, Lasts: false),
        [Topic.Restarted] = new(
            "failed and was restarted",
            "it failed and was restarted: each time",
            Urgency.CanWait,
            Lasts: true
        ),
    }.ToFrozenDictionary();

    /// <exception cref="KeyNotFoundException">A topic without traits: a mistake of the sentry's own.</exception>
    public static TopicTraits Of(Topic topic) => traits[topic];

    /// <summary>A recipient that names no topics hears of these.</summary>
    public static bool IsUsual(Topic topic) => topic is not (Topic.Restarted or Topic.CameBack);
}
