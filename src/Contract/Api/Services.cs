using System.Text.Json;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Wording;

namespace CalmSentry.Contract.Api;

/// <summary>A service as it stands now.</summary>
public record ServiceView
{
    /// <summary>Stands for the service for ever: never changed, never used for another.</summary>
    public required long Id { get; init; }

    /// <summary>Short name, unique on its host.</summary>
    public required string Name { get; init; }

    public required string Title { get; init; }

    /// <summary>Host the service lives on.</summary>
    public required string Host { get; init; }

    public required ServiceState State { get; init; }

    public required HealthLevel Health { get; init; }

    /// <summary>What shows how well it does, as a clause.</summary>
    public required string HealthWhy { get; init; }

    /// <summary>Since when it has been as well or poor as it is; null while that is unknown.</summary>
    public DateTimeOffset? HealthSince { get; init; }

    /// <summary>Why a person is needed, as a clause; null: nobody is.</summary>
    public string? Attention { get; init; }

    /// <summary>What it probably asks: at its terminal as it has written it, empty where it draws its whole screen; in a window, its
    /// title; null: nothing.</summary>
    public string? Asks { get; init; }

    /// <summary>Where it asks that: terminal or window.</summary>
    public AskedAt? AsksAt { get; init; }

    /// <summary>One or two sentences: why it is as it is, and what comes next.</summary>
    public required string Why { get; init; }

    /// <summary>Since when the state holds.</summary>
    public required DateTimeOffset Since { get; init; }

    /// <summary>Process id of the main process of the live run, or null.</summary>
    public int? Pid { get; init; }

    /// <summary>Number of the live run, or of the last one, or null before the first.</summary>
    public long? Run { get; init; }

    /// <summary>When the live run was launched, or null.</summary>
    public DateTimeOffset? UpSince { get; init; }

    /// <summary>Runs begun by recovery since a person or the boot began it.</summary>
    public int Restarts { get; init; }

    /// <summary>
    /// boot | boot-late | request | never: what it does when the machine comes up, whatever it does now.
    /// </summary>
    public required string At { get; init; }

    public required string Account { get; init; }

    /// <summary>Since when its definition differs from the files that it was brought to; null: it does not, or there are none.</summary>
    public DateTimeOffset? ApartSince { get; init; }

    /// <summary>The directory of those files; null: there are none, or nobody said where.</summary>
    public string? Files { get; init; }

    /// <summary>Until then nothing is done about what its watches find; null: they count.</summary>
    public DateTimeOffset? WatchesPausedUntil { get; init; }

    /// <summary>Words it shares with others that are asked for together.</summary>
    public required IReadOnlyList<string> Labels { get; init; }

    /// <summary>What its processes use now; null: it does not run, or it was not asked for.</summary>
    public UsageView? Usage { get; init; }

    /// <summary>Program and arguments as defined.</summary>
    public required IReadOnlyList<string> Command { get; init; }

    /// <summary>
    /// Restart pending: dotted keys that were set since the live run was launched, and that take effect with the next start
    /// only; null: none.
    /// </summary>
    public IReadOnlyList<string>? Pending { get; init; }

    /// <summary>What the program last said of itself, or null.</summary>
    public string? Said { get; init; }

    /// <summary>Until then no alert of it is raised; null: it is.</summary>
    public DateTimeOffset? QuietUntil { get; init; }

    /// <summary>What the program says it is busy with, as a clause; a planned restart waits for that. Null: nothing.</summary>
    public string? Busy { get; init; }

    /// <summary>Its next planned moment; null: none is planned, or its rhythm is at rest.</summary>
    public DateTimeOffset? NextMoment { get; init; }

    /// <summary>While it is waiting: for what, since when and how long still; else null.</summary>
    public IReadOnlyList<WaitView>? Awaits { get; init; }
}

/// <param name="For">What is waited for, in words.</param>
/// <param name="Missing">What is not so, as a clause.</param>
/// <param name="Until">When what <paramref name="Follows"/> says is done; null: no limit, or it is past.</param>
public sealed record WaitView(
    string For,
    string? Missing,
    DateTimeOffset Since,
    DateTimeOffset? Until,
    string? Follows
);

/// <summary>What shows that a program serves.</summary>
public sealed record ProofView
{
    /// <summary>What counts as proof, in words that follow "once".</summary>
    public required string Awaited { get; init; }

    /// <summary>What proved the live run, as a clause; null while there is no proof.</summary>
    public string? Seen { get; init; }

    public DateTimeOffset? At { get; init; }

    /// <summary>From launch to proof.</summary>
    public double? TookMs { get; init; }

    /// <summary>Median of earlier starts.</summary>
    public double? UsualMs { get; init; }
}

/// <summary>A service with its whole definition.</summary>
public sealed record ServiceDetail : ServiceView
{
    /// <summary>Program and arguments that the live run was launched with, where others are defined now; else null.</summary>
    public IReadOnlyList<string>? RunningCommand { get; init; }

    public required int Revision { get; init; }

    /// <summary>Every effective value, in the words of a definition file.</summary>
    public required JsonElement Definition { get; init; }

    /// <summary>Dotted keys that were set; all others have their default.</summary>
    public required IReadOnlyList<string> Given { get; init; }

    /// <summary>Of a definition made from a base: the file each value came from, and what filled it, by its dotted key; null: it is not.</summary>
    public IReadOnlyDictionary<string, string>? CameFrom { get; init; }

    /// <summary>The working directory in effect.</summary>
    public required string Directory { get; init; }

    /// <summary>File the program's output is in.</summary>
    public required string Output { get; init; }

    /// <summary>The service's own directory, for what must survive restarts and new program files.</summary>
    public required string StateDirectory { get; init; }

    /// <summary>Of a live run: who it is and what it may use, as the kernel itself reports it.</summary>
    public required IReadOnlyList<InForceView> InForce { get; init; }

    /// <summary>What must be true before it is launched, in words.</summary>
    public required IReadOnlyList<string> Needs { get; init; }

    /// <summary>Services that need it directly.</summary>
    public required IReadOnlyList<string> NeededBy { get; init; }

    public required ProofView Proof { get; init; }

    /// <summary>What is looked at while it runs.</summary>
    public required IReadOnlyList<WatchView> Watches { get; init; }

    /// <summary>
    /// How long its stops usually take (the median), and how long its wind-down waits in all, in milliseconds; the
    /// first null before any stop.
    /// </summary>
    public double? UsualStopMs { get; init; }

    public required double WindDownMs { get; init; }

    /// <summary>Over a day, a week, 30 days and 12 months.</summary>
    public required IReadOnlyList<AvailabilityView> Availability { get; init; }

    /// <summary>Its secrets by name.</summary>
    public required IReadOnlyList<SecretView> Secrets { get; init; }

    /// <summary>Latest runs, newest first.</summary>
    public required IReadOnlyList<RunView> Runs { get; init; }
}

/// <summary>One watch, and how it stands.</summary>
public sealed record WatchView
{
    /// <summary>What is to be so, as a clause.</summary>
    public required string What { get; init; }

    public required HealthLevel Health { get; init; }

    /// <summary>What was last seen, as a clause.</summary>
    public string? Seen { get; init; }

    public DateTimeOffset? LookedAt { get; init; }

    /// <summary>Since when it has been bad or good.</summary>
    public DateTimeOffset? Since { get; init; }

    /// <summary>Bad looks in a row, and how many of them count as poor.</summary>
    public required int Bad { get; init; }

    public required int Patience { get; init; }

    public required double BeatMs { get; init; }

    /// <summary>note | tell | restart | restart-by-force</summary>
    public required string Follows { get; init; }

    /// <summary>It stands in every definition without being asked for.</summary>
    public required bool Implied { get; init; }
}

/// <summary>What came of something asked.</summary>
public sealed record Answer
{
    public required AnswerCode Code { get; init; }

    public required bool CameTrue { get; init; }

    /// <summary>What came of it, in a sentence.</summary>
    public required string Said { get; init; }

    public ServiceView? Service { get; init; }

    public Evidence? Evidence { get; init; }

    /// <summary>What was checked and found on the way.</summary>
    public IReadOnlyList<FindingView>? Findings { get; init; }

    /// <summary>How to give the same definition again.</summary>
    public RepeatView? Repeat { get; init; }

    /// <summary>Of a definition that plans moments: the next of each rhythm.</summary>
    public IReadOnlyList<MomentsView>? Moments { get; init; }

    /// <summary>Of several services that were asked for together: what came of each.</summary>
    public IReadOnlyList<Answer>? Each { get; init; }
}

/// <param name="MemoryBytes">Resident memory of its processes that is their own.</param>
/// <param name="CpuPercent">In percent of one processor, over the last looks; null: not known yet.</param>
/// <param name="Processes">How many they are.</param>
public sealed record UsageView(long MemoryBytes, double? CpuPercent, int Processes);

/// <summary>What is done with several services as one act.</summary>
/// <param name="Services">Their short names or titles.</param>
public sealed record TogetherOrder(IReadOnlyList<string> Services);

/// <summary>What shows that a program runs, or why it does not; read from the kernel and from its own output.</summary>
public sealed record Evidence
{
    public int? Pid { get; init; }

    /// <summary>Account the process really runs as.</summary>
    public string? Account { get; init; }

    /// <summary>The process's real command line.</summary>
    public IReadOnlyList<string>? CommandLine { get; init; }

    public long? UpMs { get; init; }

    /// <summary>First lines this run printed.</summary>
    public required IReadOnlyList<string> Output { get; init; }

    /// <summary>
    /// What proved that it serves, how long that took, and how long it usually takes; null while it is not proven.
    /// </summary>
    public ProofView? Proof { get; init; }
}
