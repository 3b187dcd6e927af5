using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Wording;

namespace CalmSentry.Core.Telling;

/// <summary>An entry of the logbook, as far as a replay asks.</summary>
public sealed record Past(long Number, DateTimeOffset At, string? Service, Entry Entry, bool Tells);

/// <summary>A message that somebody would have got.</summary>
public sealed record WouldBe(DateTimeOffset At, string Recipient, MessageKind Kind, string Subject);

/// <summary>
/// Who would have been told what, by the recipients there are now, of what the logbook has: the same decisions on past entries. When a
/// service was well again is taken from its entries, and what has failed together by time and needs alone.
/// </summary>
public static class Replay
{
    /// <summary>So often alerts are looked at when nothing happens.</summary>
    private static readonly TimeSpan Step = TimeSpan.FromMinutes(1);

    /// <param name="entries">Oldest first.</param>
    public static IReadOnlyList<WouldBe> Of(
        IEnumerable<Past> entries,
        IReadOnlyDictionary<string, Definition> services,
        IReadOnlyList<Recipient> recipients,
        Pace pace,
        TimeZoneInfo zone,
        DateTimeOffset until,
        int most
    )
    {
        var (alerts, wrong, told) = (Alerts.None, new HashSet<string>(StringComparer.Ordinal), new List<WouldBe>());
        var graph = new NeedGraph(services.Values);
        var failures = new FailureCount();
        DateTimeOffset? now = null;
        foreach (var past in entries)
        {
            Go(past.At);
            TakeIn(past);
            Look(past.At);
            if (told.Count >= most)
                return told;
        }

        Go(until);
        return told;

        // Until then nothing happens but what was begun.
        void Go(DateTimeOffset to)
        {
            for (var at = now ?? to; at < to && told.Count < most && alerts.All.Count > 0; at += Step)
                Look(at);
            now = to;
        }

        void TakeIn(Past past)
        {
            var definition = past.Service is { } name ? services.GetValueOrDefault(name) : null;
            if (past.Service is { } well && IsEnd(past.Entry))
                wrong.Remove(well);
            foreach (
                var topic in Topics.All(
                    past.Entry,
                    past.Tells,
                    definition?.IsJob == true,
                    FailureCount.IsFailure(past.Entry)
                        && past.Service is { } failed
                        && failures.Add(past.Number, failed, past.At, pace)
                )
            )
                if (Topics.IsUsual(topic) || recipients.Any(one => one.About.Contains(Words.Of(topic))))
                    Raise(past, definition, topic);
        }

        void Raise(Past past, Definition? definition, Topic topic)
        {
            if (past.Service is { } ill && Topics.Lasts(topic))
                wrong.Add(ill);
            var cause =
                past.Service is not null && definition is null
                    ? AlertCause.Of(past.Service)
                    : Causes.Of(past.Entry, definition, Topics.Lasts(topic), graph, missing: null, wrong.Contains);
            var problem = new Problem(
                past.Number,
                past.At,
                past.Service,
                definition?.Title ?? past.Service ?? "this machine",
                topic,
                cause,
                EntryWords.Of(past.Entry)
            )
            {
                Labels = definition?.Labels ?? [],
            };
            alerts = AlertLife.Raise(alerts, problem, graph, past.At);
        }

        void Look(DateTimeOffset at)
        {
            foreach (var alert in alerts.All.Values)
                alerts = alerts.With(
                    AlertLife.Look(alert, one => one.Service is { } name && wrong.Contains(name), pace, at)
                );
            foreach (var number in alerts.All.Keys)
            foreach (var recipient in recipients)
                if (
                    AlertLife.Next(alerts.All[number], recipient, recipients, pace, zone) is var (kind, due)
                    && due <= at
                )
                {
                    var alert = alerts.All[number];
                    told.Add(new(at, recipient.Name, kind, MessageWords.SubjectOf(alert, kind)));
                    alerts = alerts.With(AlertLife.Told(alert, recipient.Name, kind, at));
                }

            foreach (var old in alerts.All.Values.Where(alert => AlertLife.IsForgotten(alert, at)).ToList())
                alerts = alerts with { All = alerts.All.Remove(old.Number) };
        }
    }

    /// <summary>After it nothing is wrong with a service: it serves, has ended as it should, or is not to run any more.</summary>
    private static bool IsEnd(Entry entry) =>
        entry.Code
            is EntryCode.Proven
                or EntryCode.WellAgain
                or EntryCode.Recovered
                or EntryCode.Ended
                or EntryCode.Stopped
                or EntryCode.StopAsked
                or EntryCode.Unwrapped;
}
