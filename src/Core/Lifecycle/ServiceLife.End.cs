using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>The end of a run, and what follows it.</summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        private void Ended(Outcome outcome, bool judgesFiles = false)
        {
            EndQuestions();
            var run = After.Run!;
            outcome = run.MainOutcome is { } main ? main with { Detail = main.Detail ?? outcome.Detail } : outcome;
            if (definition.Program.Kind == ProgramKind.Toggles && Switched(run, outcome))
                return;
            var stopping = After.Phase == Phase.Stopping;
            var afterwards = stopping ? After.Afterwards : Afterwards.Recover;
            var forced = stopping && run.Switch != Switch.GoingOff && After.WindDownStep >= definition.WindDown.Length;
            var asked = afterwards != Afterwards.Recover;
            if (!asked && run.EndedFor is { } reason)
                outcome = reason;
            var steps = stopping ? StepsAtEnd() : [];
            // With nothing to show but staying up, an early good end is what a short task looks like.
            var failedStart =
                !asked
                && run is { Launched: not null, Proven: null }
                && (definition.Begin.Proof is not UpForProof || !outcome.IsGood);
            After = After with
            {
                Run = null,
                Steps = [],
                LastEnd = new(run.Number, outcome, now, asked, forced)
                {
                    FailedStart = failedStart,
                    Steps = steps,
                    Bad = !asked && !judgesFiles && (failedStart || !outcome.IsGood),
                },
            };
            if (asked)
                Say(
                    new StoppedEntry(
                        run.Number,
                        outcome,
                        forced,
                        steps is [.., var last] ? last.What : null,
                        steps is [.., { EndedAfter: { } after }] ? after : null,
                        steps is [.., { Answer: { } answer }] ? answer : null
                    )
                );
            else
                RestartEnded(run, outcome);
            switch (afterwards)
            {
                case Afterwards.Recover when judgesFiles:
                    // Whoever put the new files in puts those before back, and begins it with them.
                    Say(new FellEntry(run.Number, outcome, failedStart) { Next = EntryNext.FilesBefore });
                    Enter(Phase.Stopped);
                    Deeds.Add(new Dismiss());
                    break;
                case Afterwards.Recover:
                    Recover(run, outcome, failedStart);
                    break;
                case Afterwards.StartAgain:
                    BeginRun(Cause.Asked);
                    break;
                case Afterwards.AwaitNeeds:
                    BeginRun(Cause.Recovery);
                    break;
                case Afterwards.AwaitMoment:
                    RestUntilMoment();
                    break;
                case Afterwards.ShowAgain:
                    ShowAgain(run);
                    break;
                default:
                    Enter(Phase.Stopped);
                    Deeds.Add(new Dismiss());
                    if (afterwards == Afterwards.Leave)
                        Deeds.Add(new Forget());
                    break;
            }
        }

        /// <summary>
        /// The end of a start command is not yet the end of what it switched on. True while the run goes on.
        /// </summary>
        private bool Switched(LiveRun run, Outcome outcome)
        {
            if (outcome.Kind is OutcomeKind.MachineLost or OutcomeKind.NeverLaunched)
                return false;
            if (run.Switch == Switch.GoingOff)
            {
                if (!outcome.IsGood)
                    Say(new OffFailedEntry(run.Number, outcome));
                return false;
            }

            if (After.Phase == Phase.Stopping)
            {
                GoOff(run);
                return true;
            }

            if (!outcome.IsGood)
                return false;
            // A server that returns may know of the end alone.
            After = After with
            {
                Run = run with { Pid = null, MainOutcome = null, Switch = Switch.On, Launched = run.Launched ?? now },
            };
            Say(new SwitchedOnEntry(run.Number, outcome));
            if (definition.Begin.Proof is UpForProof)
                Prove("its start command succeeded", null);
            else
                AwaitProof();
            Deeds.Add(new Dismiss());
            return true;
        }

        private void GoOff(LiveRun run)
        {
            After = After with
            {
                Run = run with { Switch = Switch.GoingOff, Pid = null, MainOutcome = null },
                WindDownStep = definition.WindDown.Length,
                WakeAt = now + SwitchPatience,
            };
            Deeds.Add(new SwitchOff(run.Number));
        }

        /// <summary>A run the store never heard of began and ended while no server watched.</summary>
        private void EndedUnseen(RunEnded ended)
        {
            After = After with { LastRun = ended.Run, Run = new(ended.Run, Cause.Recovery, now) };
            Ended(ended.Outcome);
        }

        /// <summary>
        /// The latest of them is the live run now, wherever the record stood: whatever was under way then has been
        /// overtaken. Failures among the others count towards a hold like any.
        /// </summary>
        private void Unseen(RunsUnseen unseen)
        {
            foreach (var ended in unseen.Ended)
                Say(new LostEntry(ended.Run, ended.Outcome));
            if (unseen.LeftOut is { } last)
                Say(new NumbersPassedOverEntry(last));
            foreach (var moment in unseen.Ended.Select(ended => ended.Moment).Append(unseen.Moment))
                TakenUnseen(moment);
            After = After with
            {
                LastRun = unseen.LeftOut is { } leftOut && leftOut > unseen.Latest ? leftOut : unseen.Latest,
                Run = new(unseen.Latest, unseen.Moment is null ? Cause.Recovery : Cause.Rhythm, unseen.Began),
                BadEnds =
                [
                    .. After.BadEnds,
                    .. unseen.Ended.Where(ended => !ended.Outcome.IsGood).Select(ended => ended.At),
                ],
                WindDownStep = 0,
                Steps = [],
                Afterwards = Afterwards.Rest,
                // A run that came after a stop says that it was started again since.
                Asked = After.Asked is { What: AskedFor.Stop } ? null : After.Asked,
                Lost = [],
                HeldFor = null,
            };
            Enter(Phase.Starting, now + LaunchPatience);
        }

        private void Recover(LiveRun run, Outcome outcome, bool failedStart)
        {
            var fell = new FellEntry(run.Number, outcome, failedStart);
            if (
                outcome.Kind == OutcomeKind.NeverLaunched
                && run.Cause == Cause.Asked
                && After.Asked is { What: AskedFor.Start, By.Kind: not (PrincipalKind.Rhythm or PrincipalKind.Needed) }
            )
            {
                // Whoever asked is there to read why: trying the same again by itself would only repeat it. What ran before, and was
                // stopped to be begun again, is not left down for that.
                Say(new NeverLaunchedEntry(run.Number, outcome));
                if (definition.IsJob)
                {
                    RestUntilMoment();
                    return;
                }

                Enter(Phase.Stopped);
                Deeds.Add(new Dismiss());
                return;
            }

            if (outcome.Kind == OutcomeKind.MachineLost)
            {
                Say(new LostEntry(run.Number, outcome));
                Enter(Phase.Stopped);
                return;
            }

            if (definition is { IsJob: true, Begin.At: not BeginAt.Never })
            {
                JobEnded(run, outcome, failedStart);
                return;
            }

            var upFor = now - (run.Launched ?? now);
            var decision = RecoveryDecision.After(definition, After, outcome, failedStart, upFor, now);
            var onTrial = After.OnTrial && upFor < definition.Recover.SteadyAfter;
            After = After with
            {
                Pauses = decision.Pauses,
                BadEnds = decision.BadEnds,
                OnTrial = onTrial,
                LastEnd = After.LastEnd! with { Bad = decision.Bad },
                FollowedUp = upFor >= definition.Recover.SteadyAfter ? 0 : After.FollowedUp,
            };
            Follow(run, outcome, decision, fell, onTrial);
            if (decision.Bad)
                FollowUp(run.Number, decision.BadEnds.Length);
        }

        private void FollowUp(RunNumber run, int failures)
        {
            var done = After.FollowedUp;
            for (var i = 0; i < definition.Recover.Then.Length; i++)
            {
                var then = definition.Recover.Then[i];
                if (then.After <= done || then.After > failures)
                    continue;
                Deeds.Add(new RunFollowUp(run, i, failures));
                After = After with { FollowedUp = Math.Max(After.FollowedUp, then.After) };
            }
        }

        private void Follow(LiveRun run, Outcome outcome, RecoveryDecision decision, FellEntry fell, bool onTrial)
        {
            switch (
                definition.Begin.At == BeginAt.Never ? Verdict.Rest
                : onTrial && decision is { Bad: true, Verdict: Verdict.Again } ? Verdict.Hold
                : decision.Verdict
            )
            {
                case Verdict.Rest:
                    RunOverEntry over = decision.Bad ? fell : new EndedEntry(run.Number, outcome, fell.FailedStart);
                    Tell(
                        over with
                        {
                            Why = decision.Why,
                            Next = decision.StopsDependents ? EntryNext.StopsDependents : EntryNext.StaysStopped,
                        },
                        decision.Bad
                    );
                    LayRhythmToRest();
                    Enter(Phase.Stopped);
                    Deeds.Add(new Dismiss());
                    if (decision.StopsDependents)
                        Deeds.Add(new StopDependents());
                    break;
                case Verdict.Hold:
                    Say(fell);
                    var why = decision.Why is { } code
                        ? $"run {run.Number} {OutcomeWords.Of(outcome)}, and {code}"
                        : null;
                    var held = new HeldEntry(run.Number, definition.Recover.RetryEvery)
                    {
                        Failures = decision.BadEnds.Length,
                        Within = definition.Recover.HoldWithin,
                        Why = why,
                    };
                    if (onTrial)
                        Say(held with { Again = true });
                    else
                        Tell(held);
                    Hold(onTrial ? After.HeldFor : why);
                    break;
                case var _ when NoRestartsUntil is { } quiet && quiet - now > decision.Pause:
                    Say(fell with { Next = EntryNext.Restart, Pause = quiet - now });
                    After = After with { Awaited = null };
                    Enter(Phase.Waiting, quiet);
                    break;
                case var _ when decision.Pause == TimeSpan.Zero:
                    // Launch first, note after: nothing stands between a fall and the next run.
                    BeginRun(Cause.Recovery);
                    Say(fell with { Next = EntryNext.Restart, Pause = TimeSpan.Zero });
                    break;
                default:
                    Say(fell with { Next = EntryNext.Restart, Pause = decision.Pause });
                    After = After with { Awaited = null };
                    Enter(Phase.Waiting, now + decision.Pause);
                    break;
            }
        }
    }
}
