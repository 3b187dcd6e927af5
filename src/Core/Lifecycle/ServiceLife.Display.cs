using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>The display of its own: without it the program is no use, and that it falls is no failure of the program's.</summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        private const string DisplayFails = "its display fails";

        private void LoseDisplay(RunNumber run, string? why)
        {
            Say(new DisplayFellEntry(run, why));
            WindDown(Principal.Display, Afterwards.ShowAgain);
        }

        /// <summary>It ended with its display: both begin again, by the pauses and the hold of recovery, counted for the display alone.</summary>
        private void ShowAgain(LiveRun run)
        {
            var recover = definition.Recover;
            After = After with
            {
                DisplayFalls =
                [
                    .. After.DisplayFalls.Where(fall => now - fall < recover.HoldWithin).TakeLast(MostDisplayFalls),
                    now,
                ],
                Awaited = null,
            };
            var falls = After.DisplayFalls.Length;
            if (recover.HoldEnds > 0 && falls >= recover.HoldEnds)
            {
                Tell(
                    new HeldEntry(run.Number, recover.RetryEvery)
                    {
                        Failures = falls,
                        Within = recover.HoldWithin,
                        Why = DisplayFails,
                    }
                );
                Hold(DisplayFails);
                return;
            }

            Enter(Phase.Waiting, now + RecoveryDecision.PauseOf(recover, falls - 1));
        }

        private const int MostDisplayFalls = 100;
    }
}
