using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>The state shown to people.</summary>
public enum Phase
{
    Stopped,
    Waiting,
    Starting,
    Running,
    Stopping,
    Resting,
    Held,
}

/// <summary>What made a run begin.</summary>
public enum Cause
{
    Asked,
    Boot,
    Recovery,

    /// <summary>A drill, which begins it as a boot would.</summary>
    Drill,

    /// <summary>A moment of its rhythm.</summary>
    Rhythm,
}

/// <summary>What happens once the present run has been stopped.</summary>
public enum Afterwards
{
    Rest,
    StartAgain,
    Leave,

    /// <summary>Nobody asked for this end (only the rest of the tree is being ended): recovery decides.</summary>
    Recover,

    /// <summary>It went down with a service it needs, and begins again with it.</summary>
    AwaitNeeds,

    /// <summary>Of a job this run alone was ended: its rhythm goes on.</summary>
    AwaitMoment,

    /// <summary>It went down with its display, and begins again with a new one.</summary>
    ShowAgain,
}

/// <summary>
/// Where one service stands. The whole of what the decisions need besides the definition; kept as it is in the store.
/// </summary>
public sealed record Situation
{
    public Phase Phase { get; init; } = Phase.Stopped;

    /// <summary>It has a run, or is on its way to one.</summary>
    public bool Lives => Run is not null || Phase is Phase.Waiting or Phase.Starting or Phase.Running or Phase.Stopping;

    /// <summary>Since when the phase holds.</summary>
    public required DateTimeOffset Since { get; init; }

    /// <summary>The highest run number ever used; 0 before the first.</summary>
    public RunNumber LastRun { get; init; }

    /// <summary>The one run there is, from its launch to the end of its tree.</summary>
    public LiveRun? Run { get; init; }

    /// <summary>
    /// What it is waiting for before its launch; null while it waits for a pause to end, or not at all.
    /// </summary>
    public Awaited? Awaited { get; init; }

    /// <summary>Services it needs that went away under it and whose return it is to be restarted for.</summary>
    public ImmutableArray<string> Lost { get; init; } = [];

    /// <summary>Why it is on hold, as a clause that follows "because"; null: for its failures.</summary>
    public string? HeldFor { get; init; }

    /// <summary>Until then nothing is done about what its watches find; null: they count.</summary>
    public DateTimeOffset? WatchesPausedUntil { get; init; }

    /// <summary>It was tried again by itself while on hold: one more bad end puts it back.</summary>
    public bool OnTrial { get; init; }

    /// <summary>When the next decision is due without anything else happening.</summary>
    public DateTimeOffset? WakeAt { get; init; }

    /// <summary>
    /// Of a stop: the wind-down step under way, counted from 0; the number of steps once all is being ended by force.
    /// </summary>
    public int WindDownStep { get; init; }

    /// <summary>The steps of the wind-down under way that were taken, in order.</summary>
    public ImmutableArray<StepTaken> Steps { get; init; } = [];

    public Afterwards Afterwards { get; init; }

    /// <summary>Pauses taken in a row: the exponent of the next one.</summary>
    public int Pauses { get; init; }

    /// <summary>Times of the latest bad ends, oldest first, as far back as they count towards a hold.</summary>
    public ImmutableArray<DateTimeOffset> BadEnds { get; init; } = [];

    /// <summary>The most failures after which a command was run since a run last was steady; 0: none was.</summary>
    public int FollowedUp { get; init; }

    /// <summary>Runs that recovery began since a person or the boot last did.</summary>
    public int Restarts { get; init; }

    /// <summary>When its display fell, oldest first, as far back as that counts towards a hold.</summary>
    public ImmutableArray<DateTimeOffset> DisplayFalls { get; init; } = [];

    /// <summary>Answers that known questions were given, oldest first, as far back as they count.</summary>
    public ImmutableArray<AnswerGiven> Answers { get; init; } = [];

    public LastEnd? LastEnd { get; init; }

    /// <summary>Who asked for the latest start or stop, and when it was; null: nobody, by itself.</summary>
    public Asking? Asked { get; init; }

    /// <summary>Its planned moments; null: it has none, or is a job whose rhythm is at rest.</summary>
    public RhythmState? Rhythm { get; init; }

    /// <summary>Nothing of it is told for a while; null: it is.</summary>
    public QuietTime? Quiet { get; init; }

    /// <summary>When, by people's clock, something is due; null: nothing is.</summary>
    public DateTimeOffset? LookAt => Rhythm?.LookAt is { } due && !(Quiet?.Until < due) ? due : Quiet?.Until;

    public static Situation New(DateTimeOffset now) => new() { Since = now };

    /// <summary>
    /// The same, with what was seen of needs and watches at the places they have in a definition. On record the two may
    /// not belong together: one of them was brought back from elsewhere, or could not be written.
    /// </summary>
    public Situation FittedTo(Definition definition) =>
        this with
        {
            Awaited = Awaited is { Needs: { IsEmpty: false } needs } awaited
                ? awaited with
                {
                    Needs = Fitted(
                        [.. definition.Begin.Needs.Select(need => (need.Id, need.InWords))],
                        needs,
                        state => state.Of,
                        (state, of) => state with { Of = of },
                        (i, of) =>
                            new("not looked at yet", awaited.Since + definition.Begin.Needs[i].Within) { Of = of }
                    ),
                }
                : Awaited,
            Run = Run is { Watched: { IsEmpty: false } watched }
                ? Run with
                {
                    Watched = Fitted(
                        [.. definition.Watch.Select(watch => (watch.Id, watch.InWords))],
                        watched,
                        state => state.Of,
                        (state, of) => state with { Of = of },
                        (_, of) => new() { Of = of }
                    ),
                }
                : Run,
            Rhythm = Rhythm?.FittedTo(definition, Since),
            // Past the last step all is being ended by force.
            WindDownStep = Math.Min(
                WindDownStep,
                definition.WindDown.Length + (Run is { Switch: Switch.GoingOff } ? 1 : 0)
            ),
        };

    /// <summary>
    /// The same by a clock that was set: what is waited for, and what counts within a time, keeps its length.
    /// </summary>
    /// <param name="skew">By how much the clock was set forward.</param>
    public Situation Shifted(TimeSpan skew) =>
        skew == TimeSpan.Zero
            ? this
            : this with
            {
                WakeAt = WakeAt + skew,
                WatchesPausedUntil = WatchesPausedUntil + skew,
                Awaited = Awaited is { } awaited
                    ? awaited with
                    {
                        Needs = [.. awaited.Needs.Select(need => need with { Limit = need.Limit + skew })],
                    }
                    : null,
                Run = Run is { } run
                    ? run with
                    {
                        Launched = run.Proven is null ? run.Launched + skew : run.Launched,
                        Watched = [.. run.Watched.Select(watch => watch with { Since = watch.Since + skew })],
                        Question = run.Question is { } asked ? asked with { Since = asked.Since + skew } : null,
                        Dialog = run.Dialog is { } dialog ? dialog with { Since = dialog.Since + skew } : null,
                    }
                    : null,
                Steps = [.. Steps.Select(step => step with { At = step.At + skew })],
                BadEnds = [.. BadEnds.Select(end => end + skew)],
                DisplayFalls = [.. DisplayFalls.Select(fall => fall + skew)],
                Answers = [.. Answers.Select(given => given with { At = given.At + skew })],
            };

    private static ImmutableArray<T> Fitted<T>(
        ImmutableArray<(string Id, string Phrase)> wanted,
        ImmutableArray<T> there,
        Func<T, string?> of,
        Func<T, string, T> known,
        Func<int, string, T> make
    )
        where T : class
    {
        // Earlier versions stored what people call it, and before that nothing but its place.
        var byPlace = wanted.Length == there.Length && there.All(one => of(one) is null);
        return
        [
            .. wanted.Select(
                (name, i) =>
                    (byPlace ? there[i] : there.FirstOrDefault(one => of(one) == name.Id || of(one) == name.Phrase))
                        is { } state
                        ? known(state, name.Id)
                        : make(i, name.Id)
            ),
        ];
    }
}

/// <param name="Pid">The main process, once it is known.</param>
/// <param name="Launched">When the program's image was in place; null while the launch is under way.</param>
/// <param name="MainOutcome">How the main process ended, while others of its tree are left.</param>
/// <param name="Detached">It put itself into the background, and its real process has been found.</param>
/// <param name="Switch">Of a program that toggles: how far it is.</param>
public sealed record LiveRun(
    RunNumber Number,
    Cause Cause,
    DateTimeOffset Began,
    int? Pid = null,
    DateTimeOffset? Launched = null,
    Outcome? MainOutcome = null,
    bool Detached = false,
    Switch Switch = Switch.Off
)
{
    /// <summary>
    /// What its control group and its mark are named after, where that is not the service's id: it was launched by an
    /// earlier version.
    /// </summary>
    public string? Label { get; init; }

    /// <summary>When it was to begin: before it waited for anything.</summary>
    public DateTimeOffset Wanted { get; init; } = Began;

    /// <summary>What it waited for before the launch.</summary>
    public ImmutableArray<WaitedFor> Waited { get; init; } = [];

    /// <summary>When it was proven ready.</summary>
    public DateTimeOffset? Proven { get; init; }

    /// <summary>What proved it, as a clause.</summary>
    public string? Proof { get; init; }

    /// <summary>While it is starting, what its proof still lacks, as a clause.</summary>
    public string? Missing { get; init; }

    /// <summary>Its proof did not come in time, which was only to be said.</summary>
    public bool Overdue { get; init; }

    /// <summary>What the sentry itself ends it for: no proof came, or a watch found it in a poor state.</summary>
    public Outcome? EndedFor { get; init; }

    /// <summary>What it probably asks at its terminal; null: nothing.</summary>
    public Question? Question { get; init; }

    /// <summary>What it probably asks in a window; null: nothing.</summary>
    public Question? Dialog { get; init; }

    /// <summary>What it asks, unless that was given its answer, and where: at both places, what it has asked the longest.</summary>
    public (Question What, AskedAt At)? Asks =>
        (Question is { Answered: false } asked ? asked : null, Dialog) switch
        {
            ({ } atTerminal, { } inWindow) when inWindow.Since < atTerminal.Since => (inWindow, AskedAt.Window),
            ({ } atTerminal, _) => (atTerminal, AskedAt.Terminal),
            (_, { } inWindow) => (inWindow, AskedAt.Window),
            _ => null,
        };

    public Question? AskedIn(AskedAt at) => at == AskedAt.Window ? Dialog : Question;

    public LiveRun Asking(AskedAt at, Question? question) =>
        at == AskedAt.Window ? this with { Dialog = question } : this with { Question = question };

    /// <summary>What its watches found, in the order of the definition; empty until it runs.</summary>
    public ImmutableArray<WatchState> Watched { get; init; } = [];
}

/// <summary>What one watch found so far.</summary>
/// <param name="Bad">Bad looks in a row.</param>
/// <param name="Since">Since when they have been bad, or good; null before the first look.</param>
/// <param name="Seen">What was last seen to change that, as a clause.</param>
public sealed record WatchState(int Bad = 0, DateTimeOffset? Since = null, string? Seen = null)
{
    /// <summary>Since when it counts as poor: bad often and long enough.</summary>
    public DateTimeOffset? PoorSince { get; init; }

    /// <summary>Which watch it is of, by its kind and target in words; null: on record by an earlier version.</summary>
    public string? Of { get; init; }
}

/// <summary>A step of a wind-down that was taken.</summary>
/// <param name="Index">Its place in the definition; the number of steps for the end by force.</param>
/// <param name="What">The step as a thing.</param>
public sealed record StepTaken(int Index, string What, DateTimeOffset At)
{
    /// <summary>What came back, as a clause; null: nothing yet.</summary>
    public string? Answer { get; init; }

    /// <summary>It could not be taken at all.</summary>
    public bool Failed { get; init; }

    /// <summary>The run ended in it, and how long after it was taken.</summary>
    public TimeSpan? EndedAfter { get; init; }
}

/// <summary>Something a run waited for, and for how long; <paramref name="PassedOver"/>: in vain.</summary>
public sealed record WaitedFor(string What, TimeSpan Length, bool PassedOver);

/// <summary>How far a service is that waits to be launched.</summary>
public enum AwaitStep
{
    /// <summary>All that begins with the machine is to be proven first.</summary>
    Boot,

    /// <summary>Its needs.</summary>
    Needs,

    /// <summary>The machine is busy with others that begin.</summary>
    Turn,
}

/// <param name="Cause">What the run to come will be begun by.</param>
/// <param name="Since">Since when it is to begin.</param>
/// <param name="Needs">In the order of the definition.</param>
public sealed record Awaited(Cause Cause, DateTimeOffset Since, AwaitStep Step, ImmutableArray<NeedState> Needs)
{
    public bool Overdue => Needs.Any(need => need is { Told: true, Open: true });
}

/// <param name="Missing">What is not so, as a clause; null: it is met.</param>
/// <param name="Limit">When what the need sets for this is done.</param>
public sealed record NeedState(string? Missing, DateTimeOffset Limit)
{
    public DateTimeOffset? MetAt { get; init; }

    public bool PassedOver { get; init; }

    public bool Told { get; init; }

    /// <summary>Which need it is of, by its kind and target in words; null: on record by an earlier version.</summary>
    public string? Of { get; init; }

    /// <summary>Still stands in the way.</summary>
    public bool Open => Missing is not null && !PassedOver;
}

/// <summary>Where a program that toggles stands.</summary>
public enum Switch
{
    /// <summary>Off, or its start command is at work.</summary>
    Off,

    /// <summary>Its start command succeeded.</summary>
    On,

    /// <summary>Its stop command is at work.</summary>
    GoingOff,
}

/// <param name="AsAsked">A stop was asked for: whatever the outcome, it is not a fall.</param>
/// <param name="Forced">The wind-down's steps did not suffice.</param>
public sealed record LastEnd(RunNumber Run, Outcome Outcome, DateTimeOffset At, bool AsAsked, bool Forced)
{
    /// <summary>It fell before it was proven.</summary>
    public bool FailedStart { get; init; }

    /// <summary>It counts as an end that should not have been.</summary>
    public bool Bad { get; init; }

    /// <summary>The steps that were taken to end it, in order.</summary>
    public ImmutableArray<StepTaken> Steps { get; init; } = [];
}

/// <summary>What somebody asked of a service.</summary>
public enum AskedFor
{
    Start,
    Stop,
    Restart,
    Release,
}

/// <summary>A time, by people's clock, in which nothing of a service is told.</summary>
/// <param name="NoRestarts">Nothing is restarted either.</param>
/// <param name="Count">How much was withheld.</param>
/// <param name="Withheld">The first of it, a clause each.</param>
public sealed record QuietTime(
    DateTimeOffset Began,
    DateTimeOffset Until,
    bool NoRestarts,
    string? Reason,
    int Count,
    ImmutableArray<string> Withheld
)
{
    /// <summary>What an alert about each of <see cref="Withheld"/> would have been; null: of one that is over by somebody's word.</summary>
    public ImmutableArray<Topic?> Topics { get; init; } = [];

    /// <summary>So much of what is withheld is listed, and the first of each topic; the rest is counted.</summary>
    public const int MostListed = 20;
}

public sealed record Asking(AskedFor What, Principal By, DateTimeOffset At);
