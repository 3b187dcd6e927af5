using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>While it runs: what its watches find, and what follows.</summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        private void BeginWatching()
        {
            var run = After.Run!;
            if (definition.Watch.IsEmpty)
                return;
            if (run.Watched.Length != definition.Watch.Length)
                After = After with
                {
                    Run = run with
                    {
                        Watched = [.. definition.Watch.Select(watch => new WatchState { Of = watch.Id })],
                    },
                };
            Deeds.Add(new LookAfter(run.Number));
        }

        /// <summary>
        /// What was seen belongs to its watch, wherever that now stands in the list; a new one has seen nothing yet.
        /// </summary>
        private void WatchOtherwise(ImmutableArray<Watch> was)
        {
            if (After.Run is not { Watched: { IsEmpty: false } seen } run)
                return;
            After = After with
            {
                Run = run with
                {
                    Watched =
                    [
                        .. definition.Watch.Select(watch =>
                            was.IndexOf(watch) is var at && at >= 0 && at < seen.Length
                                ? seen[at]
                                : new WatchState { Of = watch.Id }
                        ),
                    ],
                },
            };
        }

        /// <summary>What was seen until now is forgotten: when they count again, they begin anew.</summary>
        private void PauseWatches(WatchesPaused paused)
        {
            var resumes = paused.Length <= TimeSpan.Zero;
            // Where nothing looks, nothing would ever end a pause.
            if (resumes ? After.WatchesPausedUntil is null : definition.Watch.IsEmpty)
                return;
            After = After with
            {
                WatchesPausedUntil = resumes ? null : now + paused.Length,
                Run = After.Run is { } run
                    ? run with
                    {
                        Watched = [.. run.Watched.Select(state => new WatchState { Of = state.Of })],
                    }
                    : null,
            };
            Say(resumes ? new WatchesResumedEntry() : new WatchesPausedEntry(paused.Length), paused.By);
        }

        private void SeeWatch(WatchSeen seen)
        {
            if (After.WatchesPausedUntil is { } until)
            {
                if (now < until)
                    return;
                After = After with { WatchesPausedUntil = null };
                Say(new WatchesResumedEntry());
            }

            var (run, at) = (After.Run!, definition.Watch.IndexOf(seen.Of));
            if (at < 0 || at >= run.Watched.Length)
                return; // of a definition that is no longer in effect
            var (watch, before) = (definition.Watch[at], run.Watched[at]);
            var turned = before.Since is null || before.Bad > 0 != seen.Bad is not null;
            var state = new WatchState(
                seen.Bad is null ? 0 : before.Bad + 1,
                turned ? now : before.Since,
                seen.Bad ?? seen.Seen
            )
            {
                PoorSince = seen.Bad is null ? null : before.PoorSince,
                Of = watch.Id,
            };
            var turnsPoor =
                state is { Bad: var bad, PoorSince: null }
                && bad >= watch.Patience
                && now - state.Since >= watch.Lasting;
            if (turnsPoor)
                state = state with { PoorSince = now };
            // Good looks in a row change nothing that anybody decides by.
            if (state.Bad == 0 && before is { Bad: 0, Since: not null })
                return;
            After = After with { Run = run with { Watched = run.Watched.SetItem(at, state) } };
            if (turnsPoor)
                TurnPoor(watch, state);
            else if (before.PoorSince is not null && state.PoorSince is null)
                Say(new WellAgainEntry(run.Number, seen.Seen));
        }

        private void TurnPoor(Watch watch, WatchState state)
        {
            var unwell = new UnwellEntry(
                After.Run!.Number,
                state.Seen,
                watch.Lasting > TimeSpan.Zero ? now - state.Since : null,
                state.Bad,
                watch switch
                {
                    CeilingWatch => UnwellOf.Memory,
                    QuestionWatch when After.Run.Asks is (_, AskedAt.Window) => UnwellOf.Dialog,
                    QuestionWatch => UnwellOf.Question,
                    _ => UnwellOf.Health,
                }
            );
            if (watch is QuestionWatch && After.Run is { Asks: var (question, at) } run)
                After = After with
                {
                    Run = run.Asking(at, question with { Told = (unwell with { Next = EntryNext.KeepsRunning }).Text }),
                };
            if (NoRestartsUntil is not null && watch.Follows is WatchFollow.Restart or WatchFollow.RestartByForce)
            {
                Tell(unwell with { Next = EntryNext.KeepsRunning });
                return;
            }

            switch (watch.Follows)
            {
                case WatchFollow.Note:
                    Say(unwell);
                    break;
                case WatchFollow.Tell:
                    Tell(unwell with { Next = EntryNext.KeepsRunning });
                    break;
                default:
                    var byForce = watch.Follows == WatchFollow.RestartByForce;
                    Say(unwell with { Next = byForce ? EntryNext.KillAndRestart : EntryNext.StopAndRestart });
                    EndFor(new(OutcomeKind.Unwell, Detail: unwell.Found), byForce);
                    break;
            }
        }
    }
}
