using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>
/// Ending a run: its wind-down step by step, each recorded with its effect, closed by ending what is left by force.
/// </summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        private void WindDown(Principal by, Afterwards afterwards)
        {
            var under = After.Phase == Phase.Stopping;
            After = After with { Afterwards = afterwards, Asked = new(AskedFor.Stop, by, now) };
            ByRhythm(by);
            if (!under)
                FirstStep();
        }

        /// <summary>Nobody asked for this end: what follows it is recovery's to decide.</summary>
        private void WindDownUnasked()
        {
            After = After with { Afterwards = Afterwards.Recover };
            FirstStep();
        }

        /// <summary>The sentry itself ends it, for a reason that becomes its outcome.</summary>
        private void EndFor(Outcome reason, bool byForce)
        {
            After = After with { Run = After.Run! with { EndedFor = reason } };
            if (!byForce || After.Run.Switch == Switch.On)
            {
                WindDownUnasked();
                return;
            }

            After = After with { Afterwards = Afterwards.Recover, Steps = [] };
            Enter(Phase.Stopping);
            EndByForce(After.Run);
        }

        private void FirstStep()
        {
            After = After with { WindDownStep = 0, Steps = [] };
            Enter(Phase.Stopping);
            TakeStep();
        }

        private void TakeStep()
        {
            var run = After.Run!;
            if (run.Switch == Switch.On)
            {
                GoOff(run);
                return;
            }

            if (After.WindDownStep >= definition.WindDown.Length)
            {
                EndByForce(run);
                return;
            }

            var step = definition.WindDown[After.WindDownStep];
            var before = After.Steps.LastOrDefault(taken => taken.Index == After.WindDownStep);
            if (before is null)
                After = After with { Steps = After.Steps.Add(new(After.WindDownStep, step.What, now)) };
            After = After with { WakeAt = (before?.At ?? now) + step.Wait };
            // What was answered was taken; a signal that may not have arrived does no harm twice.
            // Where the main process has ended, or was never found, it goes to what is left.
            if (step is SignalStep signal)
                Deeds.Add(
                    new SendSignal(
                        run.Number,
                        signal.Signal,
                        signal.WholeTree || run.MainOutcome is not null || run.Pid is null
                    )
                );
            else if (before?.Answer is null)
                Deeds.Add(new PerformStep(run.Number, After.WindDownStep));
        }

        /// <summary>
        /// The same step gets its other wait at once; where another stands in its place, the wind-down begins anew with
        /// what there is now.
        /// </summary>
        private void WindDownOtherwise(ImmutableArray<WindDownStep> was)
        {
            var at = After.WindDownStep;
            if (at >= was.Length)
            {
                // By force already, or a stop command: that stays so.
                After = After with
                {
                    WindDownStep = at - was.Length + definition.WindDown.Length,
                };
                return;
            }

            if (
                at < definition.WindDown.Length
                && definition.WindDown[at] is var step
                && step with { Wait = was[at].Wait } == was[at]
            )
            {
                After = After with { WakeAt = After.Steps.Last(taken => taken.Index == at).At + step.Wait };
                return;
            }

            Say(new WindDownAnewEntry(After.Run!.Number));
            After = After with { WindDownStep = 0, Steps = [] };
            TakeStep();
        }

        private void HearStep(StepAnswered answered)
        {
            var at = After.Steps.IndexOf(After.Steps.LastOrDefault(taken => taken.Index == answered.Index)!);
            if (at < 0)
                return;
            var taken = After.Steps[at] with { Answer = answered.Answer, Failed = answered.Failed };
            After = After with { Steps = After.Steps.SetItem(at, taken) };
            if (answered.Failed && After.WindDownStep == answered.Index)
                NextStep(next => new StepFailedEntry(After.Run!.Number, taken.What, answered.Answer, next));
            else
                Say(new StepAnsweredEntry(answered.Run, taken.What, answered.Answer));
        }

        private void NextStep(Func<EntryNext, Entry> why)
        {
            After = After with { WindDownStep = After.WindDownStep + 1 };
            Say(why(After.WindDownStep < definition.WindDown.Length ? EntryNext.NextStep : EntryNext.Kill));
            TakeStep();
        }

        /// <summary>Past the last step: one stroke for all that is left.</summary>
        private void EndByForce(LiveRun run)
        {
            var step = definition.WindDown.Length + (run.Switch == Switch.GoingOff ? 1 : 0);
            After = After with
            {
                WindDownStep = step,
                WakeAt = now + ForcePatience,
                Steps = After.Steps.Add(new(step, "the kill", now)),
            };
            Deeds.Add(new EndTree(run.Number));
        }

        private ImmutableArray<StepTaken> StepsAtEnd() =>
            After.Steps is [.., var last]
                ? After.Steps.SetItem(
                    After.Steps.Length - 1,
                    last with
                    {
                        EndedAfter = now > last.At ? now - last.At : TimeSpan.Zero,
                    }
                )
                : [];
    }
}
