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

            Withhold(quiet, entry.Text, entry.TopicIf(tells: true, definition.IsJob));
            Deeds.Add(new Note(entry));
        }

        private void Withhold(QuietTime quiet, string said, Topic? topic)
        {
            var lists = quiet.Withheld.Length < QuietTime.MostListed || !quiet.Topics.Contains(topic);
            After = After with
            {
                Quiet = quiet with
                {
                    Count = quiet.Count + 1,
                    Withheld = lists ? quiet.Withheld.Add(said.TrimEnd('.')) : quiet.Withheld,
                    Topics = lists ? quiet.Topics.Add(topic) : quiet.Topics,
                },
            };
        }

        /// <summary>The entry of it is the program's own, and is on record.</summary>
        private void HeardAsking(string said)
        {
            if (After.Quiet is { } quiet)
                Withhold(quiet, said, Topic.Asks);
            else
                Deeds.Add(new Note(new GoesOnEntry(Topic.Asks, said), Tells: true));
        }

        private void HeardAnswered()
        {
            if (After.Quiet is { } quiet)
                After = After with
                {
                    Quiet = quiet with { Topics = [.. quiet.Topics.Select(one => one == Topic.Asks ? null : one)] },
                };
        }

        /// <summary>What was withheld as this is over.</summary>
        private void ForgetWithheld(string said)
        {
            if (After.Quiet is not { } quiet)
                return;
            var topics = quiet.Withheld.Zip(quiet.Topics, (one, topic) => one == said.TrimEnd('.') ? null : topic);
            After = After with { Quiet = quiet with { Topics = [.. topics] } };
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
            // What still holds is told as what it is, and not as something that was.
            var all = quiet.Withheld.Zip(quiet.Topics, (said, topic) => (Said: said, Topic: topic)).ToList();
            var holds = all.Where(one => one.Topic is { } topic && StillSo.Holds(topic, definition, After)).ToList();
            var count = quiet.Count - holds.Count;
            Deeds.Add(
                new Note(
                    new QuietOverEntry(now - quiet.Began, count, [.. all.Except(holds).Select(one => one.Said)]),
                    by,
                    Tells: count > 0
                )
            );
            AskedAt? At(string said) =>
                said == After.Run?.Question?.Told?.TrimEnd('.') ? AskedAt.Terminal
                : said == After.Run?.Dialog?.Told?.TrimEnd('.') ? AskedAt.Window
                : null;
            foreach (var topic in holds.GroupBy(one => (Topic: one.Topic!.Value, At: At(one.Said))))
                Deeds.Add(
                    new Note(new GoesOnEntry(topic.Key.Topic, topic.Last().Said) { Asks = topic.Key.At }, Tells: true)
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
