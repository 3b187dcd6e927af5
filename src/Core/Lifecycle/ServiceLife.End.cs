using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Recovery;
using CalmSentry.Core.Wording;

namespace CalmSentry.Core.Lifecycle;

/// <summary>The end of a run, and what follows it.</summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        private void Ended(Outcome outcome)
        {
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
                    Bad = !asked && (failedStart || !outcome.IsGood),
                },
            };
            if (asked)
                Say(
                    "stopped",
                    $"Run {run.Number} {OutcomeWords.Of(outcome)}"
                        + (
                            forced
                                ? "; the steps of its wind-down did not suffice, it was ended by force."
                                : EndedBy(steps)
                        )
                );
            switch (afterwards)
            {
                case Afterwards.Recover:
                    Recover(run, outcome, failedStart);
                    break;
                case Afterwards.StartAgain:
                    BeginRun(Cause.Asked);
                    break;
                case Afterwards.AwaitNeeds:
                    BeginRun(Cause.Recovery);
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
                    Say(
                        "stop-failed",
                        $"Its stop command {OutcomeWords.Of(outcome)}; whether all of it is off is not known."
                    );
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
            Say(
                "switched-on",
                $"Run {run.Number}: its start command {OutcomeWords.Of(outcome)}; it is on until its stop command "
                    + $"switches it off."
            );
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

        private void Recover(LiveRun run, Outcome outcome, bool failedStart)
        {
            var fell =
                $"Run {run.Number} {OutcomeWords.Of(outcome)}"
                + (
                    failedStart && outcome.Kind != OutcomeKind.NotProven ? ", before it was proven: a failed start" : ""
                );
            if (outcome.Kind == OutcomeKind.NeverLaunched && run.Cause == Cause.Asked)
            {
                // Whoever asked is there to read why: trying the same again by itself would only repeat it.
                Say("never-launched", $"Run {run.Number} was never launched: {outcome.Detail}.");
                Enter(Phase.Stopped);
                Deeds.Add(new Dismiss());
                return;
            }

            if (outcome.Kind == OutcomeKind.MachineLost)
            {
                Say("lost", $"{fell}.");
                Enter(Phase.Stopped);
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
            };
            switch (
                definition.Begin.At == BeginAt.Never ? Verdict.Rest
                : onTrial && decision is { Bad: true, Verdict: Verdict.Again } ? Verdict.Hold
                : decision.Verdict
            )
            {
                case Verdict.Rest:
                    Deeds.Add(
                        new Note(
                            decision.Bad ? "fell" : "ended",
                            $"{fell}; {(decision.Why is { } why ? $"{why}: " : "")}it is not begun again by "
                                + $"itself{(decision.StopsDependents ? ", and what needs it is stopped" : "")}.",
                            Tells: decision.Bad
                        )
                    );
                    Enter(Phase.Stopped);
                    Deeds.Add(new Dismiss());
                    if (decision.StopsDependents)
                        Deeds.Add(new StopDependents());
                    break;
                case Verdict.Hold:
                    Say("fell", $"{fell}.");
                    var beat = definition.Recover.RetryEvery is { } every
                        ? $" It is tried again by itself every {Duration.Write(every)}; a release or a start "
                            + $"tries it now."
                        : " A release or a start tries it again.";
                    if (onTrial)
                        Say("held", $"Back on hold.{beat}");
                    else
                        Tell(
                            "held",
                            $"On hold: {decision.Why ?? $"{decision.BadEnds.Length} bad ends within {Duration.Write(definition.Recover.HoldWithin)}"}.{beat}"
                        );
                    Hold(
                        onTrial ? After.HeldFor
                        : decision.Why is { } code ? $"run {run.Number} {OutcomeWords.Of(outcome)}, and {code}"
                        : null
                    );
                    break;
                case var _ when decision.Pause == TimeSpan.Zero:
                    // Launch first, note after: nothing stands between a fall and the next run.
                    BeginRun(Cause.Recovery);
                    Say("fell", $"{fell}; begun again at once.");
                    break;
                default:
                    Say("fell", $"{fell}; next try in {Seconds(decision.Pause)}.");
                    After = After with { Awaited = null };
                    Enter(Phase.Waiting, now + decision.Pause);
                    break;
            }
        }

        /// <summary>A length of time, to a hundredth of a second where it is no round one.</summary>
        private static string Seconds(TimeSpan length) =>
            length.Ticks % TimeSpan.TicksPerSecond == 0
                ? Duration.Write(length)
                : string.Create(CultureInfo.InvariantCulture, $"{length.TotalSeconds:0.##} s");
    }
}
