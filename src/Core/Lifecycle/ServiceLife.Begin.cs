using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Lifecycle;

/// <summary>
/// From the word to begin until it is proven: the boot, needs, the turn, the proof; and what a lost need leads to.
/// </summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        private void BeginWithMachine(Cause cause, bool heldBack)
        {
            var begins = definition.BeginsWithMachine;
            if (After.Run is not null)
            {
                // What was being stopped then (the machine may be the same, after it was wound down) ends first.
                if (begins && !heldBack && After is { Phase: Phase.Stopping, Afterwards: Afterwards.Rest })
                {
                    PutRhythmInForce();
                    After = After with
                    {
                        Asked = null,
                        Afterwards = definition.IsJob ? Afterwards.AwaitMoment : Afterwards.StartAgain,
                    };
                }

                return;
            }

            if (!begins || heldBack)
            {
                // What was to be tried again belonged to the machine's life before.
                LayRhythmToRest();
                if (After.Phase != Phase.Stopped)
                    Enter(Phase.Stopped);
                if (begins)
                {
                    After = After with { Asked = null }; // whoever asked did so in the machine's life before
                    Say(new BootHeldBackEntry());
                }

                return;
            }

            Say(cause == Cause.Drill ? new DrillBeganEntry() : new BootBeganEntry());
            After = After with
            {
                Asked = null,
                BadEnds = [],
                DisplayFalls = [],
                Pauses = 0,
                Restarts = 0,
                HeldFor = null,
                OnTrial = false,
            };
            if (definition.IsJob)
            {
                PutRhythmInForce();
                Enter(Phase.Resting);
                return;
            }

            if (definition.Begin.At == BeginAt.Boot)
            {
                BeginRun(cause);
                return;
            }

            After = After with { Awaited = new(cause, now, AwaitStep.Boot, []) };
            Enter(Phase.Waiting, now + definition.Begin.AtLatest);
        }

        private void BeginRun(Cause cause)
        {
            if (definition.Begin.At == BeginAt.Never)
                StayDown();
            else
                AwaitNeeds(cause, now);
        }

        /// <summary>It was to begin, and was set never to begin meanwhile.</summary>
        private void StayDown()
        {
            Say(new StartRefusedEntry());
            LayRhythmToRest();
            Enter(Phase.Stopped);
            Deeds.Add(new Dismiss());
        }

        private void AwaitNeeds(Cause cause, DateTimeOffset since)
        {
            if (definition.Begin.Needs.IsEmpty)
            {
                After = After with { Awaited = new(cause, since, AwaitStep.Needs, []) };
                TakeTurn();
                return;
            }

            After = After with
            {
                Awaited = new(
                    cause,
                    since,
                    AwaitStep.Needs,
                    [
                        .. definition.Begin.Needs.Select(need => new NeedState("not looked at yet", now + need.Within)
                        {
                            Of = need.Id,
                        }),
                    ]
                ),
            };
            Enter(Phase.Waiting, NextLimit());
            Deeds.Add(new LookAtNeeds(cause));
        }

        private DateTimeOffset? NextLimit() =>
            After
                .Awaited!.Needs.Where(need => need is { Open: true, Told: false })
                .Select(need => (DateTimeOffset?)need.Limit)
                .Min();

        private void SeeNeeds(ImmutableArray<string?> missing)
        {
            var awaited = After.Awaited!;
            if (missing.Length != awaited.Needs.Length)
                return; // seen by a definition that is no longer in effect
            After = After with { Awaited = awaited with { Needs = Seen(awaited.Needs, missing) } };
            BeginIfMet();
        }

        private void BeginIfMet()
        {
            if (After.Awaited!.Needs.Any(need => need.Open))
                After = After with { WakeAt = NextLimit() };
            else
                TakeTurn();
        }

        /// <summary>
        /// Whom a person asked for begins at once; what begins with the machine begins as the machine can bear it.
        /// </summary>
        private void TakeTurn()
        {
            var awaited = After.Awaited!;
            // What a person asked for never waits; neither does recovery, but for a job's.
            if (
                awaited.Cause is not (Cause.Boot or Cause.Drill or Cause.Rhythm)
                && !(definition.IsJob && awaited.Cause == Cause.Recovery)
            )
            {
                LaunchNext(awaited.Cause);
                return;
            }

            After = After with { Awaited = awaited with { Step = AwaitStep.Turn } };
            Enter(Phase.Waiting);
            Deeds.Add(new AskTurn());
        }

        /// <summary>What it needs may have gone while it waited for its turn: then it waits for that again.</summary>
        private void TurnIsHere(ImmutableArray<string?> missing)
        {
            var awaited = After.Awaited!;
            if (missing.Length != awaited.Needs.Length)
                missing = [.. awaited.Needs.Select(_ => "it has not been looked at again")]; // another definition is in effect
            var needs = Seen(awaited.Needs, missing);
            if (!needs.Any(need => need.Open))
            {
                LaunchNext(awaited.Cause);
                return;
            }

            After = After with { Awaited = awaited with { Step = AwaitStep.Needs, Needs = needs } };
            Enter(Phase.Waiting, NextLimit());
            Deeds.Add(new LookAtNeeds(awaited.Cause));
        }

        private ImmutableArray<NeedState> Seen(ImmutableArray<NeedState> needs, ImmutableArray<string?> missing) =>
            [
                .. needs.Select(
                    (need, i) =>
                        need with
                        {
                            Missing = missing[i],
                            MetAt = missing[i] is null ? need.MetAt ?? now : null,
                        }
                ),
            ];

        private void WaitedLong(Awaited awaited)
        {
            if (awaited.Step == AwaitStep.Boot)
            {
                Say(new BootNotSettledEntry(definition.Begin.AtLatest));
                AwaitNeeds(awaited.Cause, awaited.Since);
                return;
            }

            for (var i = 0; i < awaited.Needs.Length; i++)
            {
                var (state, need) = (awaited.Needs[i], definition.Begin.Needs[i]);
                if (!state.Open || state.Told || state.Limit > now)
                    continue;
                switch (need.Follows)
                {
                    case NeedFollow.Hold:
                        var why = $"{need.InWords} did not come within {Duration.Write(need.Within)} ({state.Missing})";
                        Tell(new HeldEntry(null, definition.Recover.RetryEvery) { Why = why });
                        Hold(why);
                        return;
                    case NeedFollow.GoAhead:
                        Say(new NeedPassedOverEntry(need.InWords, need.Id, need.Within, state.Missing));
                        break;
                    default:
                        Tell(new NeedMissingEntry(need.InWords, need.Id, need.Within, state.Missing));
                        break;
                }

                awaited = awaited with
                {
                    Needs = awaited.Needs.SetItem(
                        i,
                        state with
                        {
                            PassedOver = need.Follows == NeedFollow.GoAhead,
                            Told = need.Follows == NeedFollow.Tell,
                        }
                    ),
                };
            }

            After = After with { Awaited = awaited };
            BeginIfMet();
        }

        private void Hold(string? why)
        {
            After = After with { HeldFor = why };
            Enter(Phase.Held, NextTrial(now));
            Deeds.Add(new Dismiss());
        }

        private DateTimeOffset? NextTrial(DateTimeOffset heldSince) =>
            definition.Recover.RetryEvery is { } beat && definition.Begin.At != BeginAt.Never ? heldSince + beat : null;

        private ImmutableArray<WaitedFor> WaitedFor(Awaited awaited)
        {
            var waited = ImmutableArray.CreateBuilder<WaitedFor>();
            for (var i = 0; i < awaited.Needs.Length; i++)
            {
                var state = awaited.Needs[i];
                waited.Add(
                    new(definition.Begin.Needs[i].InWords, (state.MetAt ?? now) - awaited.Since, state.PassedOver)
                );
            }

            return waited.ToImmutable();
        }

        // The proof

        /// <summary>
        /// What is waited for once it is launched: that it detaches, that its start command ends, or its proof.
        /// </summary>
        private void AwaitStart()
        {
            switch (definition.Program.Kind)
            {
                case ProgramKind.Detaches when After.Run is not { Detached: true }:
                    Enter(Phase.Starting, now + DetachPatience);
                    break;
                case ProgramKind.Toggles when After.Run is not { Switch: Switch.On }:
                    Enter(Phase.Starting, now + SwitchPatience);
                    break;
                default:
                    AwaitProof();
                    break;
            }
        }

        private void AwaitProof()
        {
            var proof = definition.Begin.Proof;
            Enter(Phase.Starting, Sooner(now + (proof is UpForProof up ? up.Length : proof.Within)));
            if (proof is not UpForProof)
                Deeds.Add(new LookForProof(After.Run!.Number));
        }

        private void Prove(string seen, TimeSpan? usual)
        {
            var run = After.Run!;
            if (run.Launched is null)
                return; // the keeper's word comes first
            // A start command may have ended before the word of its launch was heard.
            After = After with
            {
                Run = run with
                {
                    Proven = now < run.Launched ? run.Launched : now,
                    Proof = seen,
                    Missing = null,
                    Overdue = false,
                },
            };
            Enter(Phase.Running, TooLongAt);
            BeginWatching();
            RestartEnded(run, null);
            Say(
                new ProvenEntry(
                    run.Number,
                    seen,
                    definition.Begin.Proof is UpForProof ? null : now - run.Launched.Value,
                    usual,
                    After is { Restarts: > 0, LastEnd.Bad: true } ? After.Restarts : null
                )
            );
            if (After.OnTrial)
                Tell(new RecoveredEntry());
        }

        private string NotProvenWords(LiveRun run) =>
            $"was not ready within {Duration.Write(definition.Begin.Proof.Within)} of its launch "
            + $"({run.Missing ?? "nothing was seen"})";

        private void NotProven()
        {
            var run = After.Run!;
            var late = new NotProvenEntry(
                run.Number,
                definition.Begin.Proof.Within,
                run.Missing ?? "nothing was seen",
                definition.Begin.Proof.OnlyTell ? EntryNext.KeepsRunning : EntryNext.StopAndRestart
            );
            if (definition.Begin.Proof.OnlyTell)
            {
                Tell(late);
                After = After with { WakeAt = TooLongAt, Run = run with { Overdue = true } };
                return;
            }

            Say(late);
            EndFor(new(OutcomeKind.NotProven, Detail: NotProvenWords(run)), byForce: false);
        }

        // Lost needs

        private void LoseNeeded(string service)
        {
            if (After.Phase is not (Phase.Starting or Phase.Running))
                return;
            var lost = new NeededLostEntry(service);
            switch (
                definition.Begin.Needs.OfType<ServiceNeed>().FirstOrDefault(need => need.Service == service)?.IfLost
            )
            {
                case IfLost.Leave:
                    Say(lost);
                    break;
                case IfLost.Restart when !After.Lost.Contains(service):
                    Say(lost with { Next = EntryNext.StopAndRestart });
                    After = After with { Lost = After.Lost.Add(service) };
                    break;
                case IfLost.GoDown:
                    Say(lost with { Next = EntryNext.KeepsWaiting });
                    WindDown(new(service, PrincipalKind.Needed), Afterwards.AwaitNeeds);
                    break;
            }
        }

        private void RegainNeeded(string service)
        {
            if (!After.Lost.Contains(service))
                return;
            After = After with { Lost = After.Lost.Remove(service) };
            if (!After.Lost.IsEmpty || After.Phase is not (Phase.Starting or Phase.Running))
                return;
            Say(new NeededBackEntry(service));
            WindDown(new(service, PrincipalKind.Needed), Afterwards.StartAgain);
        }

        private void Adjust(Definition was)
        {
            var otherwise = !was.Watch.SequenceEqual(definition.Watch);
            if (otherwise)
                WatchOtherwise(was.Watch);
            ReadDaysAnew();
            if (After.Rhythm is { } rhythm && !was.Rhythm.SequenceEqual(definition.Rhythm))
                After = After with
                {
                    Rhythm = rhythm.FittedTo(definition, now),
                    WakeAt = After.Phase == Phase.Running ? TooLongAt : After.WakeAt,
                };
            switch (After.Phase)
            {
                case Phase.Resting when !definition.IsJob:
                    Enter(Phase.Stopped);
                    break;
                case Phase.Waiting or Phase.Resting when definition.Begin.At == BeginAt.Never:
                    StayDown();
                    break;
                case Phase.Waiting
                    when After.Awaited is { Step: AwaitStep.Needs or AwaitStep.Turn } awaited
                        && !was.Begin.Needs.SequenceEqual(definition.Begin.Needs):
                    AwaitNeeds(awaited.Cause, awaited.Since);
                    break;
                case Phase.Starting when After.Run!.Launched is not null && was.Begin.Proof != definition.Begin.Proof:
                    AwaitStart();
                    break;
                case Phase.Running when otherwise:
                    BeginWatching();
                    break;
                case Phase.Stopping when !was.WindDown.SequenceEqual(definition.WindDown):
                    WindDownOtherwise(was.WindDown);
                    break;
                case Phase.Held:
                    After = After with { WakeAt = NextTrial(After.Since) };
                    break;
            }
        }
    }
}
