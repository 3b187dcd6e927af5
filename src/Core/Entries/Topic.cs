using System.Collections.Frozen;

namespace CalmSentry.Core.Entries;

/// <summary>
/// What a person may be told of, the worst first: of several, the first is what an alert is called by. The words of settings and messages
/// are these names with dashes.
/// </summary>
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

/// <summary>What is so of every alert about a topic.</summary>
/// <param name="Clause">What is so, as a clause that follows the name of a service.</param>
/// <param name="Lasts">It goes on until something ends it; else it has happened, and that is all.</param>
public sealed record TopicTraits(string Clause, Urgency Urgency, bool Lasts);

public static class Topics
{
    private static readonly FrozenDictionary<Topic, TopicTraits> traits = new Dictionary<Topic, TopicTraits>
    {
        [Topic.Held] = new("is on hold", Urgency.Urgent, Lasts: true),
        [Topic.Down] = new("failed and stays stopped", Urgency.Urgent, Lasts: true),
        [Topic.StartFailed] = new("could not be started", Urgency.Urgent, Lasts: true),
        [Topic.RestartFailed] = new("did not come up in its planned restart", Urgency.CanWait, Lasts: true),
        [Topic.NotReady] = new("runs, but is not ready", Urgency.Urgent, Lasts: true),
        [Topic.Poor] = new("is not well", Urgency.Urgent, Lasts: true),
        [Topic.NeedMissing] = new("waits for something it needs", Urgency.Urgent, Lasts: true),
        [Topic.JobOverdue] = new("has had no successful run for too long", Urgency.Urgent, Lasts: true),
        [Topic.JobFailed] = new("failed", Urgency.Urgent, Lasts: true),
        [Topic.JobMissed] = new("missed planned runs", Urgency.CanWait, Lasts: false),
        [Topic.JobLate] = new("is late", Urgency.CanWait, Lasts: false),
        [Topic.SwapFailed] = new("did not take its new files", Urgency.CanWait, Lasts: false),
        [Topic.Asks] = new("asks for somebody", Urgency.Urgent, Lasts: false),
        [Topic.Memory] = new("will reach its limit of memory", Urgency.CanWait, Lasts: true),
        [Topic.MachineMemory] = new("will run out of memory", Urgency.CanWait, Lasts: false),
        [Topic.Disk] = new("will fill its disk", Urgency.CanWait, Lasts: false),
        [Topic.Copy] = new("runs twice: a copy was started outside the sentry", Urgency.CanWait, Lasts: false),
        [Topic.Expiring] = new("uses something that expires", Urgency.CanWait, Lasts: false),
        [Topic.Logbook] = new("has a logbook that was changed", Urgency.Urgent, Lasts: false),
        [Topic.Unclean] = new("had its sentry end without being asked to", Urgency.CanWait, Lasts: false),
        [Topic.Boot] = new("came up", Urgency.CanWait, Lasts: false),
        [Topic.Withheld] = new("had alerts while it was quiet", Urgency.CanWait, Lasts: false),
        [Topic.FailsOften] = new("fails again and again", Urgency.CanWait, Lasts: true),
        [Topic.CameBack] = new("runs again", Urgency.CanWait, Lasts: false),
        [Topic.Restarted] = new("failed and was restarted", Urgency.CanWait, Lasts: true),
    }.ToFrozenDictionary();

    /// <exception cref="KeyNotFoundException">A topic without traits: a mistake of the sentry's own.</exception>
    public static TopicTraits Of(Topic topic) => traits[topic];

    /// <summary>A recipient that names no topics hears of these.</summary>
    public static bool IsUsual(Topic topic) => topic is not (Topic.Restarted or Topic.CameBack);
}
