using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Wording;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>
/// A simulated machine with one service on it: carries deeds out as the server would, and checks the laws at every
/// step.
/// </summary>
internal sealed class World(Definition first)
{
    public static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private Definition definition = first;

    /// <summary>What is in effect now.</summary>
    public Definition Definition => definition;

    private DateTimeOffset? soonest,
        lookedFrom;
    private ImmutableArray<string?> missing = [];
    private long highestRun,
        forced;
    private bool atOnce;
    private readonly HashSet<DateTimeOffset> late = [];
    private readonly Dictionary<RunNumber, (Outcome Outcome, DateTimeOffset At)> ends = [];

    public DateTimeOffset Now { get; set; } = Start;

    public Situation Situation { get; private set; } = Situation.New(Start);

    /// <summary>The run that is really there, as the kernel would know it.</summary>
    public RunNumber? Live { get; private set; }

    public bool Forgotten { get; private set; }

    /// <summary>Whether the machine has room for it at once.</summary>
    public bool HasRoom { get; init; } = true;

    public List<Deed> Done { get; } = [];

    public int Launches => Done.OfType<Launch>().Count();

    public void Happens(Happening happening)
    {
        if (Forgotten)
            return;
        Steps++;
        var before = Situation;
        if (happening is NeedsSeen seen && seen.Missing.Length == definition.Begin.Needs.Length)
            missing = seen.Missing;
        var turn = ServiceLife.Step(definition, before, happening, Now);
        // What has something better to show than staying up runs when that was shown, and not before.
        if (before.Phase != Phase.Running && turn.After.Phase == Phase.Running)
            Assert.True(definition.Begin.Proof is UpForProof || happening is Proven, "running is proven");
        if (
            happening is RunEnded over
            && before.Run is { } last
            && last.Number == over.Run
            && Now - (last.Launched ?? Now) >= definition.Recover.SteadyAfter
        )
            followed.Clear();
        // What is switched on lives on when its start command has ended.
        if (happening is RunEnded ended && ended.Run == Live && turn.After.Run?.Number != ended.Run)
        {
            Live = null;
            ends[ended.Run] = (ended.Outcome, Now);
            (soonest, atOnce) = (Now + definition.Recover.First, AtOnce(before, ended.Outcome));
        }

        Situation = turn.After;
        // What stays down after a bad end that nobody was there to see is told.
        if (
            happening is RunEnded { Outcome.Kind: not OutcomeKind.MachineLost }
            && before is { Phase: not (Phase.Stopping or Phase.Stopped), Quiet: null }
            && turn.After is { Phase: Phase.Stopped, LastEnd.Bad: true, Asked: not { By.Kind: PrincipalKind.Account } }
        )
            Assert.Contains(turn.Deeds, deed => deed is Note { Tells: true });
        // On a day that is left out nothing is begun.
        if (
            happening is CalendarCame
            && turn.After.Rhythm is { Slot: { } slot, SlotOf: { } of }
            && slot != before.Rhythm?.Slot
            && RhythmState.InForce(definition, before.Rhythm).FirstOrDefault(planned => planned.Of == of)
                is { Except: { } except }
        )
            Assert.False(except.Has(DateOnly.FromDateTime(slot.UtcDateTime)), "a day is left out");
        // A run's lateness is told once, and that none succeeds once until one does.
        foreach (var told in turn.Deeds.OfType<Note>().Select(note => note.Entry).OfType<JobLateEntry>())
            Assert.True(late.Add(told.Moment), "a moment is late once");
        if (turn.Deeds.OfType<Note>().Any(note => note.Entry is JobOverdueEntry))
            Assert.True(before.Rhythm is null or { Overdue: false }, "it is told once");
        if (before.Quiet is not null && turn.After.Quiet is not null)
            Assert.DoesNotContain(
                turn.Deeds,
                deed => deed is Note { Tells: true, Entry: not (QuietOverEntry or GoesOnEntry) }
            );
        foreach (var deed in turn.Deeds)
            Carry(deed, before, happening);
        CheckSituation();
        if (HasRoom && turn.Deeds.OfType<AskTurn>().Any())
            Happens(new TurnCame([.. definition.Begin.Needs.Select(_ => (string?)null)]));
    }

    /// <summary>The commands after failures that were run since a run was steady, by their numbers.</summary>
    private readonly HashSet<int> followed = [];

    /// <summary>Happenings taken in so far.</summary>
    public long Steps { get; private set; }

    /// <summary>A watch looks, if there is such a one.</summary>
    public void Sees(RunNumber run, int watch, bool good)
    {
        if (watch >= definition.Watch.Length)
            return;
        var (before, paused) = (Situation, Now < Situation.WatchesPausedUntil);
        Happens(new WatchSeen(run, definition.Watch[watch], good ? null : "it does not answer", "it answered"));
        // While its watches are paused, nothing comes of what they find.
        if (paused)
            Assert.Equal((before.Phase, before.Run), (Situation.Phase, Situation.Run));
        else if (Situation is { Phase: Phase.Running, Run: { } live } && live.Number == run)
            Assert.Null(Situation.WatchesPausedUntil);
    }

    /// <summary>Another definition comes into effect; what kind of program it is stays.</summary>
    public void Adjust(Definition other)
    {
        var was = definition;
        definition = other with
        {
            Program = was.Program,
            Rhythm = other.Program.Kind == was.Program.Kind ? other.Rhythm : was.Rhythm,
            Watch = [.. other.Watch.Where(watch => was.Program.Kind != ProgramKind.Toggles || watch is AnswerWatch)],
        };
        var seen = Situation.Run?.Watched ?? [];
        // A quiet time that is over is followed by the pause of then.
        if (Now + definition.Recover.First < soonest)
            soonest = Now + definition.Recover.First;
        Happens(new Adjusted(was));
        // What was seen stays with the watch that saw it.
        if (!Forgotten && !seen.IsEmpty)
            Assert.Equal(
                definition.Watch.Select(watch =>
                    was.Watch.IndexOf(watch) is var at && at >= 0 ? seen[at] : new WatchState { Of = watch.Id }
                ),
                Situation.Run!.Watched
            );
    }

    /// <summary>
    /// Server and keeper are killed, and the store has not heard of what happened since: the next server goes on from
    /// there, with what was written down of runs.
    /// </summary>
    public void FallsBackTo(Definition then, Situation stored)
    {
        followed.Clear();
        (definition, Situation) = (then, stored);
        late.Clear(); // what was told since may be told again
        var (known, latest) = (stored.LastRun, new RunNumber(highestRun));
        Live = latest > known ? latest : stored.Run?.Number;
        if (latest > known)
            Happens(
                new RunsUnseen(
                    [
                        .. ends.Where(end => end.Key > known - (stored.Run is null ? 0 : 1) && end.Key < latest)
                            .OrderBy(end => end.Key.Value)
                            .Select(end => new UnseenEnd(end.Key, end.Value.Outcome, end.Value.At)),
                    ],
                    latest,
                    Now
                )
            );
        if (Situation.Run is { Switch: not Switch.On } run)
            Happens(
                new RunEnded(
                    run.Number,
                    ends.TryGetValue(run.Number, out var end) ? end.Outcome : new(OutcomeKind.KeeperLost)
                )
            );
        Happens(new Resumed());
    }

    public void Passes(TimeSpan time) => Now += time;

    /// <summary>Lets time run to the next decision that is due. False when none is.</summary>
    public bool PassToNextDecision()
    {
        if (Situation.WakeAt is not { } at)
            return false;
        if (at > Now)
            Now = at;
        Happens(new TimeCame());
        return true;
    }

    /// <summary>Lets time run to the next planned moment. False when none comes.</summary>
    public bool PassToNextMoment()
    {
        if (Situation.LookAt is not { } at)
            return false;
        if (at > Now)
            Now = at;
        Happens(new CalendarCame());
        return true;
    }

    public void Launch() => Happens(new Launched(Live!.Value, 4711));

    public void End(Outcome outcome) => Happens(new RunEnded(Live!.Value, outcome));

    private void Carry(Deed deed, Situation before, Happening cause)
    {
        Assert.False(Forgotten, "nothing is done for a service that was removed");
        Done.Add(deed);
        switch (deed)
        {
            case Launch launch:
                Assert.Null(Live); // never two runs at once
                Assert.NotEqual(BeginAt.Never, definition.Begin.At);
                if (cause is not StartAsked { WithoutNeeds: true })
                    CheckNeeds();
                Assert.True(launch.Run > highestRun, "a run's number is never used twice");
                Assert.False(
                    before.Phase == Phase.Held
                        && cause is not (StartAsked or RestartAsked or ReleaseAsked or MachineBegan)
                        && !(
                            cause is TimeCame && definition.Recover.RetryEvery is { } beat && Now - before.Since >= beat
                        ),
                    "held never launches by itself, but at its slow beat"
                );
                if (
                    launch.Cause == Cause.Recovery
                    && soonest is { } then
                    && Situation.LastEnd is not { AsAsked: true }
                    && !Situation.OnTrial
                    && !atOnce
                )
                    Assert.True(Now >= then, "no restart comes sooner than its pause");
                (Live, highestRun) = (launch.Run, launch.Run);
                break;
            case LookAtNeeds:
                (missing, lookedFrom) = ([.. definition.Begin.Needs.Select(need => need.InWords)], Now);
                break;
            case LookForProof look:
                Assert.Equal(Live, look.Run);
                break;
            case SendSignal signal:
                Assert.Equal(Live, signal.Run);
                break;
            case PerformStep perform:
                Assert.Equal((Live, Phase.Stopping), (perform.Run, Situation.Phase));
                Assert.IsNotType<SignalStep>(definition.WindDown[perform.Index]);
                break;
            case LookAfter look:
                Assert.Equal((Live, Phase.Running), (look.Run, Situation.Phase));
                break;
            case StopDependents:
                Assert.Equal(Phase.Stopped, Situation.Phase);
                break;
            case EndTree all:
                Assert.Equal(Live, all.Run);
                forced = all.Run;
                Assert.True(
                    Situation.WakeAt is not null
                        || (cause is TimeCame && before.WindDownStep >= definition.WindDown.Length),
                    "what does not end even by force is said"
                );
                break;
            case GiveUpKeeper given:
                Assert.Equal(Live, given.Run);
                break;
            case FindMain find:
                Assert.Equal(Live, find.Run);
                Assert.Equal(ProgramKind.Detaches, definition.Program.Kind);
                break;
            case SwitchOff off:
                Assert.Equal(Live, off.Run);
                Assert.Equal(ProgramKind.Toggles, definition.Program.Kind);
                break;
            case RunFollowUp follow:
                var due = definition.Recover.Then[follow.Index];
                Assert.InRange(due.After, 1, follow.Failures);
                Assert.True(followed.Add(due.After), "once until a run was steady");
                Assert.False(Situation.LastEnd!.AsAsked);
                break;
            case ReadDays:
                Assert.Contains(definition.Rhythm, planned => planned.Except?.File is not null);
                break;
            case WeighRestart weigh:
                Assert.Equal((Phase.Running, weigh.Moment), (Situation.Phase, Situation.Rhythm!.Restart!.Moment));
                break;
            case RestartInOrder restart:
                Assert.Equal((Phase.Running, restart.Moment), (Situation.Phase, Situation.Rhythm!.Restart!.Moment));
                Assert.True(Situation.Rhythm.Restart.Goes);
                break;
            case Dismiss:
                Assert.True(
                    Live is null || Situation.Run is { Switch: Switch.On },
                    "a keeper with a process is never dismissed"
                );
                break;
            case Forget:
                Assert.Null(Live);
                Forgotten = true;
                break;
        }
    }

    /// <summary>
    /// Of a code that says so, a run that was up as long as the first pause is begun again without one.
    /// </summary>
    private bool AtOnce(Situation before, Outcome outcome) =>
        definition.Recover.Codes.GetValueOrDefault(RecoveryDecision.CodeOf(before.Run?.MainOutcome ?? outcome) ?? "")
            == CodeFollow.AgainAtOnce
        && before.Run!.EndedFor is null
        && Now - before.Run!.Launched >= definition.Recover.First;

    /// <summary>Nothing is launched while a need is missing, unless its limit is past and it may go ahead.</summary>
    private void CheckNeeds()
    {
        for (var i = 0; i < definition.Begin.Needs.Length; i++)
            Assert.True(
                missing[i] is null
                    || (
                        definition.Begin.Needs[i].Follows == NeedFollow.GoAhead
                        && Now >= lookedFrom + definition.Begin.Needs[i].Within
                    ),
                $"launched without {definition.Begin.Needs[i].InWords}"
            );
    }

    private void CheckRhythm()
    {
        if (Situation.Phase == Phase.Resting)
            Assert.True(definition.IsJob && Situation.Rhythm is not null, "what rests waits for a moment");
        if (definition.IsJob && Situation.Phase == Phase.Stopped)
            Assert.True(Situation.Rhythm is null || Situation.LastEnd is { Outcome.Kind: OutcomeKind.MachineLost });
        if (!definition.IsJob)
            Assert.Equal(definition.Rhythm.IsEmpty, Situation.Rhythm is null);
        // Only its last word tells that all of it was withheld.
        Assert.True(Situation.Quiet is not { } quiet || quiet.Count >= quiet.Withheld.Length);
        if (Situation.Rhythm is not { } rhythm)
            return;
        Assert.Equal(definition.Rhythm.Select(planned => planned.Of), rhythm.Places.Select(place => place.Of));
        Assert.True(rhythm.Restart is null || (Situation.Phase == Phase.Running && !definition.IsJob));
        foreach (var (place, planned) in rhythm.Places.Zip(RhythmState.InForce(definition, rhythm)))
            Assert.Equal(
                (planned.After(place.Taken), true),
                (place.Next, place.Due >= place.Next || place.Next is null)
            );
    }

    private void CheckSituation()
    {
        Assert.Equal(Live, Situation.Run?.Number);
        Assert.Equal(Situation.Run is not null, Situation.Phase is Phase.Starting or Phase.Running or Phase.Stopping);
        Assert.True(
            Situation.Phase != Phase.Waiting
                || Situation.WakeAt is not null
                || Situation.Awaited is { Step: AwaitStep.Turn } or { Overdue: true },
            "waiting never waits for nothing"
        );
        Assert.True(Situation.Awaited is null || Situation.Phase == Phase.Waiting);
        if (Situation.Phase == Phase.Stopped)
            Assert.Null(Situation.WakeAt);
        if (Situation.Phase == Phase.Held)
            Assert.Equal(
                definition.Recover.RetryEvery is null || definition.Begin.At == BeginAt.Never,
                Situation.WakeAt is null
            );
        if (Situation is { Phase: Phase.Running, Run.Watched: { IsEmpty: false } watched })
            Assert.Equal(definition.Watch.Length, watched.Length);
        if (Situation is { Phase: Phase.Stopping, Run.Switch: not Switch.GoingOff })
            Assert.Equal(forced == Live, Situation.WindDownStep >= definition.WindDown.Length);
        if (Situation.Run is { Switch: Switch.On } on)
            Assert.NotNull(on.Launched);
        Assert.True(Situation.Steps.IsEmpty || Situation.Phase == Phase.Stopping, "steps belong to a stop");
        // Looking, explaining and counting must be able to make something of wherever it stands.
        foreach (
            var sentence in (string[])
                [
                    Explanation.Of(definition, Situation, TimeZoneInfo.Utc),
                    .. Outlook.Next(definition, Situation).Select(next => next.Text),
                ]
        )
            Assert.EndsWith(".", sentence, StringComparison.Ordinal);
        var health = Health.Of(definition, Situation);
        Assert.True(
            health.Level == HealthLevel.Poor || Situation.Phase == Phase.Running || health.Level == HealthLevel.Unknown
        );
        Assert.Equal(Situation.Phase == Phase.Running, ServiceTimes.Of(Situation) == ServiceTime.Up);
        if (!Forgotten)
            CheckRhythm();
        if (Situation.Phase == Phase.Held)
            Assert.NotNull(Attention.Of(definition, Situation));
    }
}
