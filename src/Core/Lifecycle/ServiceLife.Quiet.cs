using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Lifecycle;

/// <summary>Times in which nothing of a service is told, and, where that is wanted, nothing restarted.</summary>
public static partial class ServiceLife
{
    private sealed partial class Deciding
    {
        /// <summary>Until then nothing is restarted by itself; null: it is.</summary>
        private DateTimeOffset? NoRestartsUntil =>
            After.Quiet is { NoRestarts: true } quiet && quiet.Until > now ? quiet.Until : null;

        /// <summary>Tells a person, or keeps it for the end of a quiet time.</summary>
        private void Tell(Entry entry, bool tells = true)
        {
            if (!tells || After.Quiet is not { } quiet)
            {
                Deeds.Add(new Note(entry, Tells: tells));
                return;
            }

            After = After with
            {
                Quiet = quiet with
                {
                    Count = quiet.Count + 1,
                    Withheld =
                        quiet.Withheld.Length < QuietTime.MostListed
                            ? quiet.Withheld.Add(entry.Text.TrimEnd('.'))
                            : quiet.Withheld,
                },
            };
            Deeds.Add(new Note(entry));
        }

        private void AskQuiet(QuietAsked asked)
        {
            if (asked.Until > now)
                BeginQuiet(asked.By, asked.Until, asked.NoRestarts, asked.Reason);
            else
                EndQuiet(asked.By);
        }

        /// <summary>One that is longer than the one under way takes its place; what was withheld stays so.</summary>
        private void BeginQuiet(Principal by, DateTimeOffset until, bool noRestarts, string? reason)
        {
            After = After with
            {
                Quiet = After.Quiet is { } quiet
                    ? quiet with
                    {
                        Until = until,
                        NoRestarts = noRestarts,
                        Reason = reason,
                    }
                    : new(now, until, noRestarts, reason, 0, []),
            };
            Say(new QuietBeganEntry(until - now, reason, noRestarts), by);
        }

        private void EndQuiet(Principal? by)
        {
            if (After.Quiet is not { } quiet)
                return;
            After = After with { Quiet = null };
            Deeds.Add(
                new Note(new QuietOverEntry(now - quiet.Began, quiet.Count, quiet.Withheld), by, Tells: quiet.Count > 0)
            );
            // What fell meanwhile was to wait for this.
            if (quiet.NoRestarts && After is { Phase: Phase.Waiting, Awaited: null, WakeAt: { } wake })
                After = After with
                {
                    WakeAt = now + definition.Recover.First < wake ? now + definition.Recover.First : wake,
                };
        }

        /// <summary>A quiet time that is planned: what is left of it, where the moment was missed.</summary>
        private void TakeQuiet(PlannedQuiet planned, DateTimeOffset moment)
        {
            if (moment + planned.For > now && !(After.Quiet?.Until > moment + planned.For))
                BeginQuiet(Principal.Rhythm, moment + planned.For, planned.NoRestarts, "as planned");
        }
    }
}
