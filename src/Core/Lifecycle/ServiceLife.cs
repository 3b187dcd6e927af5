using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Lifecycle;

/// <summary>The next situation, and what is to be done about it.</summary>
public readonly record struct Turn(Situation After, ImmutableArray<Deed> Deeds);

/// <summary>
/// The heart: what a service does next is decided here and nowhere else, from its definition, where it stands, what
/// happened
/// and when. Nothing in here reads a clock, a file or a process.
/// </summary>
public static partial class ServiceLife
{
    /// <summary>How long after ending everything by force it is said that something does not end.</summary>
    public static readonly TimeSpan ForcePatience = TimeSpan.FromSeconds(10);

    /// <summary>How long a keeper may take to say what came of a launch before it is asked whether it is there at all.</summary>
    public static readonly TimeSpan LaunchPatience = TimeSpan.FromSeconds(30);

    /// <summary>
    /// How long a program that detaches may take to do so before it is taken as it is, and how long its real process is
    /// looked for.
    /// </summary>
    public static readonly TimeSpan DetachPatience = TimeSpan.FromSeconds(10);

    /// <summary>How long the command that switches something off may take.</summary>
    public static readonly TimeSpan SwitchPatience = TimeSpan.FromMinutes(1);

    /// <summary>How long a stop may take before what is left is ended by force.</summary>
    public static TimeSpan LongestStop(Definition definition) =>
        definition.Program.Kind == ProgramKind.Toggles
            ? SwitchPatience
            : definition.WindDown.Aggregate(TimeSpan.Zero, (sum, step) => sum + step.Wait);

    public static Turn Step(Definition definition, Situation before, Happening happening, DateTimeOffset now)
    {
        var turn = new Deciding(definition, before, now);
        turn.Decide(happening);
        return new(turn.After, turn.Deeds.ToImmutable());
    }

    private sealed partial class Deciding(Definition definition, Situation before, DateTimeOffset now)
    {
        public Situation After { get; private set; } = before;

        public ImmutableArray<Deed>.Builder Deeds { get; } = ImmutableArray.CreateBuilder<Deed>();

        public void Decide(Happening happening)
        {
            KeepRhythm();
            switch (happening)
            {
                case StartAsked asked:
                    Start(asked.By, asked.WithoutNeeds, asked.BringsBack);
                    break;
                case StopAsked { ThisRun: true } asked when definition.IsJob && After.Rhythm is not null:
                    Stop(asked.By, Afterwards.AwaitMoment);
                    break;
                case StopAsked asked:
                    Stop(asked.By, Afterwards.Rest);
                    break;
                case CalendarCame came:
                    if (After.Quiet?.Until <= now)
                        EndQuiet(null);
                    LookAtCalendar(came.ClockSet);
                    break;
                case ZoneSet when After.Rhythm is { } rhythm:
                    After = After with { Rhythm = rhythm.FittedTo(definition, now) };
                    break;
                case PersonAsked asked:
                    HeardAsking(asked.Said);
                    break;
                case PersonAnswered:
                    HeardAnswered();
                    break;
                case QuietAsked asked:
                    AskQuiet(asked);
                    break;
                case DaysRead read:
                    HearDays(read);
                    break;
                case RestartWeighed weighed:
                    Weigh(weighed);
                    break;
                case SkipAsked asked:
                    Skip(asked.By);
                    break;
                case AdvanceAsked asked:
                    Advance(asked.By);
                    break;
                case Wrapped
                    when definition is { IsJob: true, BeginsWithMachine: true }
                        && After is { Phase: Phase.Stopped, Run: null }:
                    PutRhythmInForce();
                    Enter(Phase.Resting);
                    break;
                case ForceAsked asked when After is { Phase: Phase.Stopping, Run: not null }:
                    Force(asked.By);
                    break;
                case ReleaseAsked asked:
                    Release(asked.By);
                    break;
                case WatchesPaused paused:
                    PauseWatches(paused);
                    break;
                case UnwrapAsked asked:
                    Stop(asked.By, Afterwards.Leave);
                    break;
                case RestartAsked asked:
                    Restart(asked.By);
                    break;
                case MachineBegan began:
                    BeginWithMachine(began.Cause, began.HeldBack);
                    break;
                case BootSettled when After.Awaited?.Step == AwaitStep.Boot:
                    AwaitNeeds(After.Awaited.Cause, After.Awaited.Since);
                    break;
                case NeedsSeen seen when After.Awaited?.Step == AwaitStep.Needs:
                    SeeNeeds(seen.Missing);
                    break;
                case TurnCame came when After.Awaited?.Step == AwaitStep.Turn:
                    TurnIsHere(came.Missing);
                    break;
                case Proven proven when IsLive(proven.Run) && After.Phase == Phase.Starting:
                    Prove(proven.Seen, proven.Usual);
                    break;
                case ProofMissing missing when IsLive(missing.Run) && After.Phase == Phase.Starting:
                    After = After with { Run = After.Run! with { Missing = missing.Missing } };
                    break;
                case WatchSeen seen when IsLive(seen.Run) && After.Phase == Phase.Running:
                    SeeWatch(seen);
                    break;
                case DisplayFell fell when IsLive(fell.Run) && After.Phase is Phase.Starting or Phase.Running:
                    LoseDisplay(fell.Run, fell.Why);
                    break;
                case QuestionSeen seen when IsLive(seen.Run):
                    SeeQuestion(seen);
                    break;
                case StepAnswered answered when IsLive(answered.Run) && After.Phase == Phase.Stopping:
                    HearStep(answered);
                    break;
                case NeededLost lost:
                    LoseNeeded(lost.Service);
                    break;
                case NeededBack back:
                    RegainNeeded(back.Service);
                    break;
                case Resumed when After.Awaited is { Step: not AwaitStep.Boot } awaited:
                    AwaitNeeds(awaited.Cause, awaited.Since);
                    break;
                case Resumed when After is { Phase: Phase.Running, Run.Switch: Switch.On }:
                    BeginWatching();
                    ResumeRhythm();
                    break;
                case Resumed:
                    ResumeRhythm();
                    break;
                case Adjusted adjusted:
                    Adjust(adjusted.Was);
                    break;
                case Launched launched when IsLive(launched.Run):
                    Begun(launched.Pid);
                    break;
                case MainEnded ended when IsLive(ended.Run):
                    MainGone(ended.Outcome);
                    break;
                case MainFound found when IsLive(found.Run):
                    Follow(found.Pid);
                    break;
                case RunEnded ended when IsLive(ended.Run):
                    Ended(ended.Outcome, ended.JudgesFiles);
                    break;
                case RunEnded ended when ended.Run > After.LastRun && After.Run is null:
                    EndedUnseen(ended);
                    break;
                case RunsUnseen unseen when unseen.Latest > After.LastRun:
                    Unseen(unseen);
                    break;
                case MomentUnseen seen:
                    PassUnseen(seen.Moment);
                    break;
                case TakenUp found:
                    TakeUp(found);
                    break;
                case TimeCame when After.WakeAt <= now:
                    Due();
                    break;
            }

            KeepDays();
            KeepTellAt();
        }

        private bool IsLive(RunNumber run) => After.Run?.Number == run;

        private void Say(Entry entry, Principal? by = null) => Deeds.Add(new Note(entry, by));

        private void Enter(Phase phase, DateTimeOffset? wakeAt = null) =>
            After = After with
            {
                Phase = phase,
                Since = phase == After.Phase ? After.Since : now,
                WakeAt = wakeAt,
                Awaited = phase == Phase.Waiting ? After.Awaited : null,
                Rhythm =
                    After.Rhythm is { Restart: not null } && phase != Phase.Running
                        ? After.Rhythm with
                        {
                            Restart = null,
                        }
                        : After.Rhythm,
            };

        // What people ask

        private void Start(Principal by, bool withoutNeeds = false, bool bringsBack = false)
        {
            // Since it was stopped for a while a person has said that it is to be down.
            if (bringsBack && After.Asked is { What: AskedFor.Stop, By.Kind: PrincipalKind.Account })
                return;
            var asked = new Asking(bringsBack ? AskedFor.Restart : AskedFor.Start, by, now);
            if (definition.Begin.At == BeginAt.Never)
            {
                Say(new StartRefusedEntry(), by);
                return;
            }

            if (After.Phase != Phase.Stopping || After.Afterwards != Afterwards.Leave)
                PutRhythmInForce();
            switch (After.Phase)
            {
                case Phase.Stopping when After.Afterwards == Afterwards.Leave:
                case Phase.Starting or Phase.Running:
                    break;
                case Phase.Stopping:
                    Say(new StartAskedEntry(EntryNext.KeepsWaiting), by);
                    After = After with { Afterwards = Afterwards.StartAgain, Asked = asked };
                    break;
                default:
                    ByRhythm(by);
                    After = After with
                    {
                        Asked = asked,
                        BadEnds = [],
                        DisplayFalls = [],
                        Pauses = 0,
                        Restarts = 0,
                        HeldFor = null,
                        OnTrial = false,
                    };
                    if (withoutNeeds)
                        LaunchNext(Cause.Asked);
                    else
                        BeginRun(Cause.Asked);
                    Say(
                        new StartAskedEntry(
                            withoutNeeds && !definition.Begin.Needs.IsEmpty ? EntryNext.GoesAhead : default
                        ),
                        by
                    );
                    break;
            }
        }

        private void Release(Principal by)
        {
            if (After.Phase != Phase.Held)
                return;
            After = After with
            {
                Asked = new(AskedFor.Release, by, now),
                BadEnds = [],
                DisplayFalls = [],
                Pauses = 0,
                Restarts = 0,
                HeldFor = null,
                OnTrial = false,
            };
            BeginRun(Cause.Asked);
            Say(new ReleasedEntry(), by);
        }

        /// <summary>It is down for a while, and would be brought back: what a person says in between is news.</summary>
        private bool OnlyForAWhile(Principal by) =>
            After.Asked
                is { What: AskedFor.Stop, By.Kind: PrincipalKind.Swap or PrincipalKind.Restart or PrincipalKind.Rhythm }
            && by.Kind == PrincipalKind.Account;

        private void Stop(Principal by, Afterwards afterwards)
        {
            var leaving = After.Phase == Phase.Stopping && After.Afterwards == Afterwards.Leave;
            if (After.Run is null && afterwards == Afterwards.AwaitMoment)
            {
                // What waits for this moment's run does so no more; what is held needs a person, not a moment.
                if (After.Phase != Phase.Waiting)
                    return;
                Say(new StopAskedEntry(), by);
                Enter(Phase.Resting);
                Deeds.Add(new Dismiss());
                return;
            }

            if (After.Run is null)
            {
                // Of what fell and stayed down, a stop says that somebody has seen it and wants it so.
                var quiet =
                    After.Phase == Phase.Stopped
                    && afterwards == Afterwards.Rest
                    && ServiceTimes.Of(After) != ServiceTime.Fallen
                    && !OnlyForAWhile(by);
                if (!quiet)
                    Say(afterwards == Afterwards.Leave ? new UnwrapAskedEntry() : new StopAskedEntry(), by);
                After = After with
                {
                    Asked = quiet ? After.Asked : new(AskedFor.Stop, by, now),
                    Pauses = 0,
                    BadEnds = [],
                    DisplayFalls = [],
                    HeldFor = null,
                    OnTrial = false,
                };
                LayRhythmToRest();
                Enter(Phase.Stopped);
                Deeds.Add(new Dismiss());
                if (afterwards == Afterwards.Leave)
                    Deeds.Add(new Forget());
                return;
            }

            if (afterwards != Afterwards.AwaitMoment)
                LayRhythmToRest();
            var wanted = leaving ? Afterwards.Leave : afterwards;
            if (After.Phase == Phase.Stopping && After.Afterwards == wanted && !OnlyForAWhile(by))
                return;
            Say(
                wanted == Afterwards.Leave
                    ? new UnwrapAskedEntry(After.Run.Number)
                    : new StopAskedEntry(After.Run.Number),
                by
            );
            WindDown(by, wanted);
        }

        private void Force(Principal by)
        {
            Say(new ForceAskedEntry(After.Run!.Number), by);
            EndByForce(After.Run!);
        }

        private void Restart(Principal by)
        {
            if (After.Run is null || After.Phase == Phase.Stopping)
            {
                Start(by);
                return;
            }

            Say(new RestartAskedEntry(After.Run.Number), by);
            WindDown(by, Afterwards.StartAgain);
            After = After with { Asked = new(AskedFor.Restart, by, now) };
        }

        // A run's life

        private void LaunchNext(Cause cause)
        {
            var number = After.LastRun.Next();
            var awaited = After.Awaited;
            After = After with
            {
                LastRun = number,
                Run = new(number, cause, now)
                {
                    Wanted = awaited?.Since ?? now,
                    Waited = awaited is null ? [] : WaitedFor(awaited),
                },
                Lost = [],
                Restarts = cause == Cause.Recovery ? After.Restarts + 1 : 0,
                WindDownStep = 0,
            };
            Enter(Phase.Starting, now + LaunchPatience);
            Deeds.Add(new Launch(number, cause));
        }

        private void Begun(int pid)
        {
            // A stop command is launched in the run that it ends.
            After = After with
            {
                Run = After.Run! with { Pid = pid, Launched = After.Run.Launched ?? now },
            };
            if (After.Phase == Phase.Starting)
                AwaitStart();
            if (After.Run!.Switch != Switch.GoingOff)
                Say(new LaunchedEntry(After.Run.Number, pid));
            LookForQuestions();
        }

        private void TakeUp(TakenUp found)
        {
            var known = IsLive(found.Run);
            var run = known ? After.Run! : new LiveRun(found.Run, Cause.Recovery, now);
            After = After with
            {
                LastRun = After.LastRun > found.Run ? After.LastRun : found.Run,
                Run = run with { Pid = found.Pid, Launched = run.Launched ?? now },
            };
            if (run.Switch == Switch.GoingOff)
            {
                After = After with { WakeAt = now + SwitchPatience };
            }
            else if (After.Phase == Phase.Stopping)
            {
                // The order to stop may not have reached the keeper before the server was lost: the step is taken
                // again.
                TakeStep();
            }
            else if (!known || After.Phase != Phase.Running)
            {
                AwaitStart();
            }
            else
            {
                BeginWatching();
            }

            Say(new TakenUpEntry(found.Run, found.Pid));
            LookForQuestions();
        }

        private void Follow(int pid)
        {
            var handedOver = After.Run!.Detached;
            After = After with { Run = After.Run with { Pid = pid, Detached = true } };
            if (handedOver)
            {
                Say(new HandedOverEntry(After.Run.Number, pid));
                return;
            }

            if (After.Phase is Phase.Starting or Phase.Running)
                AwaitProof();
            Say(new DetachedEntry(After.Run.Number, pid));
        }

        private void MainGone(Outcome outcome)
        {
            if (
                definition.Program.Kind == ProgramKind.Detaches
                && outcome.IsGood
                && !After.Run!.Detached
                && After.Phase is Phase.Starting or Phase.Running
            )
            {
                After = After with { Run = After.Run with { Pid = null } };
                Enter(Phase.Starting, now + DetachPatience);
                Deeds.Add(new FindMain(After.Run!.Number));
                return;
            }

            After = After with { Run = After.Run! with { MainOutcome = outcome } };
            if (After.Phase == Phase.Stopping)
            {
                // A wrapper script that ends at once leaves its program behind: pass the wish on, the step's wait still
                // runs.
                if (
                    After.WindDownStep < definition.WindDown.Length
                    && definition.WindDown[After.WindDownStep] is SignalStep step
                )
                    Deeds.Add(new SendSignal(After.Run.Number, step.Signal, WholeTree: true));
                return;
            }

            Say(new MainEndedEntry(After.Run!.Number, outcome));
            if (definition.Program.Kind == ProgramKind.Stays && outcome.IsGood)
                After = After with { Run = After.Run with { MainOutcome = outcome with { Detail = LeftBehind } } };
            WindDownUnasked();
        }

        private const string LeftBehind =
            "it left processes behind, which were ended; the kind of a program that puts itself into the background is "
            + "detaches (--kind detaches)";

        /// <summary>It stays where it was to detach, or what it left in the background cannot be told apart.</summary>
        private void NotDetached()
        {
            if (After.Run!.Pid is { } pid)
            {
                Say(new NotDetachedEntry(After.Run.Number, pid, DetachPatience, null));
                After = After with { Run = After.Run with { Detached = true } };
                if (definition.Begin.Proof is UpForProof)
                    Prove("it is running", null);
                else
                    AwaitProof();
                return;
            }

            Say(new NotDetachedEntry(After.Run!.Number, null, null, After.Run.Missing));
            WindDownUnasked();
        }

        private void Due()
        {
            switch (After.Phase)
            {
                case Phase.Waiting when After.Awaited is null && NoRestartsUntil is { } over:
                    After = After with { WakeAt = over };
                    break;
                case Phase.Waiting when After.Awaited is null:
                    BeginRun(Cause.Recovery);
                    break;
                case Phase.Waiting:
                    WaitedLong(After.Awaited);
                    break;
                case Phase.Starting when After.Run is { Launched: null } run:
                    Deeds.Add(new GiveUpKeeper(run.Number));
                    After = After with { WakeAt = now + LaunchPatience };
                    break;
                case Phase.Starting
                    when definition.Program.Kind == ProgramKind.Toggles && After.Run!.Switch == Switch.Off:
                    Say(new LaunchedEntry(After.Run!.Number, null, SwitchPatience));
                    After = After with { WakeAt = null };
                    break;
                case Phase.Starting when TooLongAt <= now:
                case Phase.Running when definition.IsJob:
                    TooLong();
                    break;
                case Phase.Starting
                    when definition.Program.Kind == ProgramKind.Detaches && After.Run is { Detached: false }:
                    NotDetached();
                    break;
                case Phase.Starting when After.Run?.Launched is not null && definition.Begin.Proof is UpForProof up:
                    Prove($"it has stayed up for {Duration.Write(up.Length)}", null);
                    break;
                case Phase.Starting when After.Run?.Launched is not null:
                    NotProven();
                    break;
                case Phase.Held when NoRestartsUntil is { } until:
                    After = After with { WakeAt = until };
                    break;
                case Phase.Held:
                    Say(new RetriedEntry(definition.Recover.RetryEvery ?? TimeSpan.Zero));
                    After = After with { OnTrial = true };
                    BeginRun(Cause.Recovery);
                    break;
                case Phase.Stopping when After.WindDownStep < definition.WindDown.Length:
                    var step = definition.WindDown[After.WindDownStep];
                    NextStep(next => new StepOverEntry(After.Run!.Number, step.What, step.Wait, next));
                    break;
                case Phase.Stopping
                    when After.Run!.Switch == Switch.GoingOff && After.WindDownStep == definition.WindDown.Length:
                    Say(new OffFailedEntry(After.Run!.Number, null, SwitchPatience));
                    EndByForce(After.Run);
                    break;
                case Phase.Stopping:
                    Say(new StillThereEntry(After.Run!.Number));
                    Deeds.Add(new GiveUpKeeper(After.Run!.Number));
                    After = After with { WakeAt = now + ForcePatience };
                    break;
                default:
                    After = After with { WakeAt = null };
                    break;
            }
        }
    }
}
