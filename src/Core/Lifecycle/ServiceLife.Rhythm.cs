using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Lifecycle;

/// <summary>Planned moments: runs of a job, and restarts of what stays.</summary>
public static partial class ServiceLife
{
    /// <summary>
    /// A clock set back by less than this does not bring moments back that were taken; by more it was wrong before, and they
    /// count from now on.
    /// </summary>
    public static readonly TimeSpan LongestBack = TimeSpan.FromHours(3);

    private sealed partial class Deciding
    {
        /// <summary>Whatever led to this definition: what it plans is in force, but for a job at rest.</summary>
        private void KeepRhythm()
        {
            if (definition.Rhythm.IsEmpty)
            {
                if (After.Rhythm is not null)
                    After = After with { Rhythm = null };
            }
            else if (After.Rhythm is not { } rhythm)
            {
                if (!definition.IsJob)
                    After = After with { Rhythm = RhythmState.From(definition, now) };
            }
            else if (!rhythm.Fits(definition))
                After = After with { Rhythm = rhythm.FittedTo(definition, now) };
            if (After.Rhythm is { Good: null })
                After = After with { Rhythm = After.Rhythm with { Good = now } };
        }

        // Days that are left out, and stand in a file

        /// <summary>So often a file with days is read.</summary>
        private static readonly TimeSpan BetweenReadings = TimeSpan.FromDays(1);

        private ImmutableArray<Planned> InForce => RhythmState.InForce(definition, After.Rhythm);

        /// <summary>Whatever happened: the files with days that its definition names are known, or are to be read.</summary>
        private void KeepDays()
        {
            if (After.Rhythm is not { } rhythm)
                return;
            var files = definition.Rhythm.Select(planned => planned.Except?.File).OfType<string>().Distinct().ToList();
            if (!files.SequenceEqual(rhythm.Days.Select(known => known.File)))
                After = After with
                {
                    Rhythm = rhythm with
                    {
                        Days =
                        [
                            .. files.Select(file =>
                                rhythm.Days.FirstOrDefault(days => days.File == file) ?? new(file, [])
                            ),
                        ],
                        ReadDaysAt = files.Count == 0 ? null : now,
                    },
                };
        }

        /// <summary>They may be others by now.</summary>
        private void ReadDaysAnew()
        {
            if (After.Rhythm is { ReadDaysAt: not null } rhythm)
                After = After with { Rhythm = rhythm with { ReadDaysAt = now } };
        }

        private void LookAtDays()
        {
            if (
                After.Rhythm is not { ReadDaysAt: { } at } rhythm
                || (at > now && at - now <= BetweenReadings + LongestBack)
            )
                return;
            After = After with { Rhythm = rhythm with { ReadDaysAt = now + BetweenReadings } };
            Deeds.Add(new ReadDays());
        }

        private void HearDays(DaysRead read)
        {
            if (
                After.Rhythm is not { } rhythm
                || rhythm.Days.FirstOrDefault(days => days.File == read.File) is not { } was
            )
                return;
            var @is = read.Wrong is null ? new(read.File, read.Days) : was with { Wrong = read.Wrong };
            if (@is == was)
                return;
            rhythm = rhythm with { Days = rhythm.Days.Replace(was, @is) };
            After = After with { Rhythm = rhythm.FittedTo(definition, now, otherDays: true) };
            Say(new DaysReadEntry(read.File, @is.Days.Count, read.Wrong));
        }

        /// <summary>Whatever happened: from when on a run is late, or none has succeeded for too long.</summary>
        private void KeepTellAt()
        {
            if (After.Rhythm is not { } rhythm)
                return;
            var at = Sooner(LateAt(rhythm)?.At, OverdueAt(rhythm));
            if (rhythm.TellAt != at)
                After = After with { Rhythm = rhythm with { TellAt = at } };
        }

        private static DateTimeOffset? Sooner(DateTimeOffset? one, DateTimeOffset? other) =>
            other is null || one < other ? one : other;

        /// <summary>The first moment of which it is to be told that its run is late, and when.</summary>
        private (DateTimeOffset Moment, TimeSpan After, DateTimeOffset At)? LateAt(RhythmState rhythm)
        {
            if (!definition.IsJob)
                return null;
            var slot =
                After.Phase is Phase.Resting or Phase.Stopped or Phase.Held || rhythm.Slot is not { } moment
                    ? ((DateTimeOffset At, string Of)?)null
                    : (moment, rhythm.SlotOf ?? "");
            foreach (var open in new[] { slot, rhythm.Queued })
                if (
                    open is var (at, of)
                    && !(at <= rhythm.ToldLate)
                    && definition.Rhythm.OfType<PlannedRun>().FirstOrDefault(run => run.Of == of)
                        is { LateAfter: { } after } planned
                )
                    return (at, after, planned.DueOf(definition.Name, at) + after);
            return null;
        }

        private DateTimeOffset? OverdueAt(RhythmState rhythm) =>
            definition.IsJob && rhythm is { Overdue: false, Good: { } good } && SuccessWithin is { } within
                ? good + within
                : null;

        private TimeSpan? SuccessWithin => definition.Rhythm.OfType<PlannedRun>().Min(run => run.SuccessWithin);

        private void TellWhatIsLate()
        {
            if (After.Rhythm is { } rhythm && LateAt(rhythm) is var (moment, after, at) && at <= now)
            {
                After = After with { Rhythm = rhythm with { ToldLate = moment } };
                Tell(
                    new JobLateEntry(
                        moment,
                        After.Run?.Number,
                        after,
                        After.Run is { } run ? $"run {run.Number} is at work"
                            : After.Awaited is null ? "it waits to be tried again"
                            : "it waits to begin"
                    )
                );
            }

            if (After.Rhythm is { Good: { } good } jobs && SuccessWithin is { } within && OverdueAt(jobs) <= now)
            {
                After = After with { Rhythm = jobs with { Overdue = true } };
                Tell(new JobOverdueEntry(good, within));
            }
        }

        /// <summary>A person's start, the boot or the wrapping puts a job's rhythm in force.</summary>
        private void PutRhythmInForce()
        {
            if (definition.IsJob)
                After = After with
                {
                    Rhythm = (After.Rhythm ?? RhythmState.From(definition, now)) with
                    {
                        Slot = null,
                        SlotOf = null,
                        Tries = 0,
                    },
                };
        }

        private void LayRhythmToRest()
        {
            if (definition.IsJob)
                After = After with { Rhythm = null };
        }

        /// <summary>What there is of a job between two moments.</summary>
        private void RestUntilMoment()
        {
            if (After.Rhythm is { Queued: { } queued })
            {
                BeginSlot(queued.At, queued.Of);
                return;
            }

            // A run that an earlier server knew nothing of any more may end while the rhythm is at rest.
            Enter(After.Rhythm is null ? Phase.Stopped : Phase.Resting);
            Deeds.Add(new Dismiss());
        }

        private void BeginSlot(DateTimeOffset moment, string of)
        {
            After = After with { Rhythm = After.Rhythm! with { Slot = moment, SlotOf = of, Tries = 0, Queued = null } };
            BeginRun(Cause.Rhythm);
        }

        /// <summary>
        /// A run was ordered for a moment by a server that could not put it on record: the moment is taken, whatever the
        /// record says. At most one run a moment, but for those tried again.
        /// </summary>
        private void TakenUnseen(DateTimeOffset? moment)
        {
            if (!definition.IsJob || moment is not { } taken || After.Rhythm is not { } rhythm)
                return;
            var of = PassUnseen(taken);
            After = After with
            {
                Rhythm = After.Rhythm with
                {
                    Slot = taken,
                    SlotOf = (rhythm.Slot == taken ? rhythm.SlotOf : null) ?? of ?? rhythm.Queued?.Of,
                    Tries = rhythm.Slot == taken ? rhythm.Tries + 1 : 0,
                },
            };
        }

        /// <summary>No run is begun any more for a moment, or for one before it.</summary>
        /// <returns>Of which entry of the rhythm it was, where that is still to be seen.</returns>
        private string? PassUnseen(DateTimeOffset taken)
        {
            if (!definition.IsJob || After.Rhythm is not { } rhythm)
                return null;
            string? of = null;
            var (places, inForce) = (rhythm.Places.ToBuilder(), InForce);
            for (var i = 0; i < places.Count && i < inForce.Length; i++)
                if (inForce[i] is PlannedRun planned && places[i].Next <= taken)
                {
                    of ??= places[i].Next == taken ? planned.Of : null;
                    places[i] = RhythmPlace.After(taken, planned, definition.Name);
                }

            After = After with
            {
                Rhythm = rhythm with
                {
                    Places = places.ToImmutable(),
                    Queued = rhythm.Queued?.At <= taken ? null : rhythm.Queued,
                },
            };
            return of;
        }

        private sealed record Come(Planned Planned, DateTimeOffset Moment, int Missed, bool Late);

        private void LookAtCalendar(bool clockSet)
        {
            if (After.Rhythm is not { } rhythm)
                return;
            LookAtDays();
            Come? come = null;
            var (places, inForce) = (rhythm.Places.ToBuilder(), InForce);
            for (var i = 0; i < places.Count && i < inForce.Length; i++)
            {
                var (planned, place) = (inForce[i], places[i]);
                // Times of a day mean nothing by a clock that starts anywhere.
                if (!clockSet && planned.When is not Rhythms.Every { Begins: null })
                    continue;
                if (place.Taken - now > LongestBack)
                {
                    places[i] = RhythmPlace.After(now, planned, definition.Name);
                    continue;
                }

                if (place.Due is not { } due || due > now)
                    continue;
                var one = Latest(planned, place);
                places[i] = RhythmPlace.After(one.Moment, planned, definition.Name);
                if (planned is PlannedQuiet quiet)
                {
                    TakeQuiet(quiet, one.Moment);
                    continue;
                }

                // Two rhythms may have the same moment, and both may have missed some.
                come =
                    come is null ? one
                    : one.Moment > come.Moment || (come.Late && !one.Late)
                        ? one with
                        {
                            Missed = one.Missed + come.Missed + (one.Moment == come.Moment ? 0 : 1),
                        }
                    : come with { Missed = come.Missed + one.Missed + (one.Moment == come.Moment ? 0 : 1) };
            }

            if (!places.SequenceEqual(rhythm.Places))
                After = After with { Rhythm = After.Rhythm! with { Places = places.ToImmutable() } };
            if (come is not null)
                TakeMoment(come);
            if (clockSet)
                TellWhatIsLate();
            if (After.Rhythm is { Restart: { Goes: false } due2 } && due2.Latest <= now)
                GoAheadWithRestart(overdue: true);
        }

        /// <summary>The last moment that is due, and how many before it were missed.</summary>
        private Come Latest(Planned planned, RhythmPlace place)
        {
            var (moment, missed) = (place.Next!.Value, 0);
            while (planned.After(moment) is { } next && planned.DueOf(definition.Name, next) <= now)
            {
                missed++;
                moment = next;
                if (missed < MomentsMissedEntry.MostCounted)
                    continue;
                moment = planned.Moments.Latest(moment, now, planned.Clock) ?? moment;
                break;
            }

            return new(planned, moment, missed, now - planned.DueOf(definition.Name, moment) > Planned.Grace);
        }

        private void TakeMoment(Come come)
        {
            var missed = come.Missed + (come.Late ? 1 : 0);
            var silent = After.Phase is Phase.Held || (!definition.IsJob && After.Phase != Phase.Running);
            var passes = come.Late && come.Planned.Missed == IfMissed.Pass;
            if (missed > 0 && !silent)
            {
                var entry = new MomentsMissedEntry(
                    missed,
                    come.Moment,
                    passes || !come.Late ? EntryNext.Nothing : EntryNext.GoesAhead
                );
                if (passes && definition.IsJob)
                    Tell(entry);
                else
                    Say(entry);
            }

            if (!passes)
                Take(come.Planned, come.Moment);
        }

        /// <param name="asked">A person wants it now, whatever makes it needless by itself.</param>
        private void Take(Planned planned, DateTimeOffset moment, bool asked = false)
        {
            if (planned is PlannedRun run)
                TakeRun(run, moment);
            else if (planned is PlannedRestart restart)
                TakeRestart(restart, moment, asked);
        }

        // Jobs

        private void TakeRun(PlannedRun planned, DateTimeOffset moment)
        {
            switch (After.Phase)
            {
                case Phase.Stopped or Phase.Held:
                case Phase.Stopping when After.Afterwards is Afterwards.Rest or Afterwards.Leave:
                    return;
                case Phase.Resting:
                    BeginSlot(moment, planned.Of);
                    return;
            }

            var before = After.Run?.Number;
            switch (planned.IfRunning)
            {
                case IfRunning.Queue when After.Rhythm!.Queued is null:
                    Say(new MomentQueuedEntry(moment, before));
                    After = After with { Rhythm = After.Rhythm with { Queued = (moment, planned.Of) } };
                    break;
                case IfRunning.TakeOver when After.Run is null:
                    Say(new MomentTakesOverEntry(moment, before));
                    BeginSlot(moment, planned.Of);
                    break;
                case IfRunning.TakeOver:
                    Say(new MomentTakesOverEntry(moment, before));
                    After = After with { Rhythm = After.Rhythm! with { Queued = (moment, planned.Of) } };
                    WindDown(Principal.Rhythm, Afterwards.AwaitMoment);
                    break;
                default:
                    Say(new MomentPassedEntry(moment, before));
                    break;
            }
        }

        /// <summary>Of the rhythm that its run belongs to; of a run that somebody asked for, the first there is.</summary>
        private PlannedRun? RunsBy()
        {
            var runs = definition.Rhythm.OfType<PlannedRun>().ToList();
            return runs.Find(run => run.Of == After.Rhythm?.SlotOf) ?? runs.FirstOrDefault();
        }

        /// <summary>From when on a job takes too long.</summary>
        private DateTimeOffset? TooLongAt =>
            definition.IsJob && After.Run is { Launched: { } launched } && RunsBy()?.Longest is { } longest
                ? launched + longest
                : null;

        private DateTimeOffset? Sooner(DateTimeOffset? one) => TooLongAt is { } at && !(one < at) ? at : one;

        private void TooLong()
        {
            var longest = RunsBy()?.Longest;
            Say(new TooLongEntry(After.Run!.Number, longest));
            EndFor(new(OutcomeKind.TooLong, Detail: longest is { } set ? Duration.Write(set) : null), byForce: false);
        }

        /// <summary>A job has ended by itself: it has succeeded, is tried again within its slot, or has failed.</summary>
        private void JobEnded(LiveRun run, Outcome outcome, bool failedStart)
        {
            var decision = RecoveryDecision.After(
                definition,
                After,
                outcome,
                failedStart,
                now - (run.Launched ?? now),
                now
            );
            var again = decision is { Verdict: Verdict.Again, Why: not null };
            var tries = After.Rhythm?.Tries ?? 0;
            var next = After.Rhythm?.Next?.Next;
            var fell = new FellEntry(run.Number, outcome, failedStart);
            After = After with
            {
                Pauses = decision.Pauses,
                BadEnds = [],
                DisplayFalls = [],
                OnTrial = false,
                LastEnd = After.LastEnd! with { Bad = decision.Bad },
            };
            if (!decision.Bad && !again)
            {
                Say(new EndedEntry(run.Number, outcome, failedStart) { Why = decision.Why, Next = EntryNext.Rests });
                After = After with
                {
                    Pauses = 0,
                    Rhythm = After.Rhythm is { } rhythm ? rhythm with { Good = now, Overdue = false } : null,
                };
                RestUntilMoment();
            }
            else if (decision is { Verdict: Verdict.Hold, Why: { } why })
            {
                Say(fell);
                Tell(
                    new HeldEntry(run.Number, definition.Recover.RetryEvery)
                    {
                        Why = $"run {run.Number} {OutcomeWords.Of(outcome)}, and {why}",
                    }
                );
                Hold(why);
            }
            else if (
                After.Rhythm is { Queued: null }
                && tries < (RunsBy()?.Again ?? 0)
                && !(now + PauseOf(tries) >= next)
                && NoRestartsUntil is null
            )
            {
                var pause = PauseOf(tries);
                Say(fell with { Next = EntryNext.Restart, Pause = pause, Try = tries + 1 });
                After = After with { Awaited = null, Rhythm = After.Rhythm with { Tries = tries + 1 } };
                Enter(Phase.Waiting, now + pause);
            }
            else
            {
                Tell(fell with { Next = EntryNext.Rests }, decision.Bad);
                After = After with { Pauses = 0 };
                RestUntilMoment();
            }
        }

        private TimeSpan PauseOf(int tries) => RecoveryDecision.PauseOf(definition.Recover, tries);

        // Restarts

        private void TakeRestart(PlannedRestart planned, DateTimeOffset moment, bool asked)
        {
            if (After is not { Phase: Phase.Running, Run: { } run })
                return;
            var upFor = now - (run.Launched ?? now);
            if (!asked && (upFor < planned.NeedlessWithin || NoRestartsUntil is not null))
            {
                Say(
                    new RestartNeedlessEntry(
                        moment,
                        upFor,
                        NoRestartsUntil is null ? null : "it is quiet, and nothing is restarted"
                    )
                );
                return;
            }

            After = After with
            {
                Rhythm = After.Rhythm! with { Restart = new(planned.Of, moment, now + planned.PutOff) },
            };
            if (!planned.IsWeighed)
                GoAheadWithRestart(overdue: false);
            else
                Deeds.Add(new WeighRestart(moment));
        }

        private void Weigh(RestartWeighed weighed)
        {
            if (After.Rhythm is not { Restart: { Goes: false } due } rhythm || due.Moment != weighed.Moment)
                return;
            var planned = definition.Rhythm.OfType<PlannedRestart>().FirstOrDefault(one => one.Of == due.Of);
            if (planned is not null && Needless(planned, weighed) is { } why)
            {
                After = After with { Rhythm = rhythm with { Restart = null, Spared = rhythm.Spared + 1 } };
                Say(new RestartSparedEntry(due.Moment, why, rhythm.Spared + 1));
            }
            else if (weighed.Busy is not { } busy)
            {
                GoAheadWithRestart(overdue: false);
            }
            else if (due.Busy is null)
            {
                After = After with { Rhythm = rhythm with { Restart = due with { Busy = busy } } };
                Say(new RestartPutOffEntry(due.Moment, busy, due.Latest - now));
            }
        }

        /// <summary>None of the causes it was to be done for is there, as a clause; null: one is, or it needs none.</summary>
        private static string? Needless(PlannedRestart planned, RestartWeighed weighed)
        {
            var not = new List<string>();
            if (planned.MemoryAbove is { } above)
            {
                if (weighed.Memory is not { } memory || memory > above)
                    return null;
                not.Add($"its memory is {Size.Write(memory)}, not above {Size.Write(above)}");
            }

            if (planned.CeilingWithin is { } within)
            {
                if (weighed.Ceiling <= within)
                    return null;
                not.Add(
                    weighed.Ceiling is { } left
                        ? $"as its memory grows it reaches its limit in {Length.Of(left)}, not within {Duration.Write(within)}"
                        : "its memory does not grow steadily"
                );
            }

            return not.Count == 0 ? null : string.Join(", and ", not);
        }

        private void GoAheadWithRestart(bool overdue)
        {
            var rhythm = After.Rhythm!;
            var due = rhythm.Restart! with { Goes = true };
            After = After with { Rhythm = rhythm with { Restart = due, Spared = 0 } };
            Say(new RestartDueEntry(After.Run!.Number, due.Moment, overdue ? due.Busy : null));
            Deeds.Add(new RestartInOrder(due.Moment));
        }

        /// <summary>A stop or start of what stays: whether it is part of its planned restart.</summary>
        private void ByRhythm(Principal by)
        {
            if (definition.IsJob || After.Rhythm is not { } rhythm)
                return;
            DateTimeOffset? restarting =
                by.Kind == PrincipalKind.Rhythm ? rhythm.Restart?.Moment ?? rhythm.Restarting ?? now : null;
            if (rhythm.Restarting != restarting)
                After = After with { Rhythm = rhythm with { Restarting = restarting } };
        }

        /// <summary>A person hears of it although recovery goes on: it was the sentry that ended what ran well.</summary>
        private void RestartEnded(LiveRun run, Outcome? outcome)
        {
            if (After.Rhythm is not { Restarting: { } moment } rhythm)
                return;
            After = After with { Rhythm = rhythm with { Restarting = null } };
            if (outcome is not null)
                Tell(new RestartFailedEntry(run.Number, outcome, moment));
        }

        /// <summary>A returning server: who looked, or waited for the order, is gone.</summary>
        private void ResumeRhythm()
        {
            ReadDaysAnew();
            if (After is { Phase: Phase.Running, Rhythm.Restart: { } due })
                Deeds.Add(due.Goes ? new RestartInOrder(due.Moment) : new WeighRestart(due.Moment));
        }

        // What people ask

        private void Skip(Principal by)
        {
            if (TakeNext() is { } next)
                Say(new MomentSkippedEntry(next.Moment), by);
        }

        private void Advance(Principal by)
        {
            if (TakeNext() is not { } next)
                return;
            Say(new MomentAdvancedEntry(next.Moment), by);
            Take(next.Planned, next.Moment, asked: true);
        }

        private (Planned Planned, DateTimeOffset Moment)? TakeNext()
        {
            if (After.Rhythm is not { Next: { Next: { } moment } place } rhythm)
                return null;
            var i = rhythm.Places.IndexOf(place);
            var planned = InForce[i];
            After = After with
            {
                Rhythm = rhythm with
                {
                    Places = rhythm.Places.SetItem(i, RhythmPlace.After(moment, planned, definition.Name)),
                },
            };
            return (planned, moment);
        }
    }
}
