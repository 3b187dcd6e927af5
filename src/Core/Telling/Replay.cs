using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Telling;

/// <summary>A message that somebody would have got.</summary>
public sealed record WouldBe(DateTimeOffset At, string Recipient, MessageKind Kind, string Subject);

/// <summary>
/// Who would have been told what, by the recipients there are now, of what the logbook has: the same step on past entries. When a
/// service was well again, and when it was quiet, is taken from its entries, and what has failed together by time and needs alone.
/// </summary>
public static class Replay
{
    /// <summary>So often alerts are looked at when nothing happens.</summary>
    private static readonly TimeSpan Look = TimeSpan.FromMinutes(1);

    /// <param name="entries">Oldest first.</param>
    public static IReadOnlyList<WouldBe> Of(
        IEnumerable<EntryCame> entries,
        IReadOnlyDictionary<string, Definition> services,
        IReadOnlyList<Recipient> recipients,
        Pace pace,
        TimeZoneInfo zone,
        DateTimeOffset until,
        int most
    )
    {
        var ground = new PastGround(services, recipients, pace, zone);
        var (telling, told) = (TellingState.None, new List<WouldBe>());
        DateTimeOffset? now = null;
        foreach (var past in entries)
        {
            Go(past.At);
            ground.Hear(past);
            Step(past.At, past);
            if (told.Count >= most)
                return told;
        }

        Go(until);
        return told;

        // Until then nothing happens but what was begun.
        void Go(DateTimeOffset to)
        {
            for (var at = now ?? to; at < to && told.Count < most && telling.Alerts.All.Count > 0; at += Look)
                Step(at);
            now = to;
        }

        void Step(DateTimeOffset at, params ReadOnlySpan<TellingInput> inputs)
        {
            var turn = TellingLife.Step(telling, inputs.ToArray(), ground, at);
            telling = turn.After;
            told.AddRange(
                turn.Due.Select(due => new WouldBe(
                    at,
                    due.Recipient.Name,
                    due.Kind,
                    MessageWords.SubjectOf(due.Alert, due.Kind)
                ))
            );
        }
    }

    /// <summary>How services were, as far as their entries say.</summary>
    private sealed class PastGround(
        IReadOnlyDictionary<string, Definition> services,
        IReadOnlyList<Recipient> recipients,
        Pace pace,
        TimeZoneInfo zone
    ) : ITellingGround
    {
        private readonly HashSet<string> wrong = new(StringComparer.Ordinal),
            quiet = new(StringComparer.Ordinal);

        public IReadOnlyList<Recipient> Recipients => recipients;

        public Pace Pace => pace;

        public TimeZoneInfo Zone => zone;

        public NeedGraph Graph { get; } = new(services.Values);

        public string Machine => "this machine";

        public void Hear(EntryCame past)
        {
            if (past.Service is not { } service)
                return;
            if (IsEnd(past.Entry))
                wrong.Remove(service);
            if (past.Entry is QuietBeganEntry)
                quiet.Add(service);
            if (past.Entry is QuietOverEntry)
                quiet.Remove(service);
            if (
                past.Entry.TopicIf(past.Tells, Named(service)?.IsJob == true) is { } topic
                && Topics.Of(topic).Lasting is Lasting.Trouble or Lasting.WhileSo
            )
                wrong.Add(service);
        }

        public Definition? Named(string service) => services.GetValueOrDefault(service);

        public bool IsQuiet(string service) => quiet.Contains(service);

        public bool IsInTrouble(string service) => wrong.Contains(service);

        public bool IsWrong(Affected one) => one.Service is { } service && wrong.Contains(service);

        public AlertCause? MissedBy(Definition definition) => null;

        /// <summary>After it nothing is wrong with a service: it serves, has ended as it should, or is not to run any more.</summary>
        private static bool IsEnd(Entry entry) =>
            entry
                is ProvenEntry
                    or WellAgainEntry
                    or RecoveredEntry
                    or EndedEntry
                    or StoppedEntry
                    or StopAskedEntry
                    or UnwrappedEntry;
    }
}
