using System.Collections.Immutable;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Telling;

/// <summary>All alerts that go on, or may come again, and the highest number that one ever had.</summary>
public sealed record Alerts(ImmutableSortedDictionary<long, Alert> All, long Last)
{
    public static Alerts None { get; } = new(ImmutableSortedDictionary<long, Alert>.Empty, 0);

    public Alerts With(Alert alert) => new(All.SetItem(alert.Number, alert), Math.Max(Last, alert.Number));
}

public enum MessageKind
{
    Begins,

    /// <summary>More services than were named before.</summary>
    Grows,

    /// <summary>Something worse than what was told.</summary>
    Worse,

    /// <summary>It goes on, and nobody has acknowledged it.</summary>
    Stays,
    Over,

    /// <summary>It was over, and is not any more.</summary>
    Again,

    /// <summary>What happened in a time.</summary>
    Report,

    /// <summary>Somebody wants to see whether messages arrive.</summary>
    Trial,
}

/// <summary>What becomes of an alert, and when who is told of it; nothing else.</summary>
public static class AlertLife
{
    /// <summary>One that was over within this comes again as the same.</summary>
    public static readonly TimeSpan Returns = TimeSpan.FromDays(1);

    /// <summary>Within it the same happens to many services.</summary>
    public static readonly TimeSpan Together = TimeSpan.FromSeconds(10);

    /// <summary>What needs a service is said to have failed because of it when it did so within this before.</summary>
    public static readonly TimeSpan Shortly = TimeSpan.FromMinutes(5);

    private static readonly TimeSpan BetweenRepeats = TimeSpan.FromHours(1),
        LongestSteady = TimeSpan.FromHours(12),
        Day = TimeSpan.FromDays(1);

    /// <summary>Messages about one alert that a recipient gets within a day; the last of them is not for what joins it.</summary>
    public const int MostADay = 5,
        MostGrowing = MostADay - 1;

    /// <summary>Services an alert names; the rest is counted.</summary>
    public const int MostNamed = 2000;

    /// <summary>So many services to which the same happens at once are one alert.</summary>
    public const int Many = 3;

    /// <summary>Of so many it is said what happened; of the rest, which they are.</summary>
    private const int MostDescribed = 50;

    /// <summary>Takes in what happened: into the alert of its cause, or a new one.</summary>
    public static Alerts Raise(Alerts alerts, Problem problem, NeedGraph graph, DateTimeOffset now)
    {
        var into = Find(alerts, problem, now);
        var earlier =
            problem.Cause.Kind == CauseKind.Service && Topics.Of(problem.Topic).Joins
                ? Because(alerts, problem, graph, now)
                : [];
        // One that was over is another story than those that go on.
        if (earlier.Count > 0 && into is { OverAt: not null })
            into = null;
        foreach (var one in earlier)
        {
            if (into is null || one.Number < into.Number)
                (into, alerts) = (Absorb(one with { Cause = problem.Cause }, into), Part(alerts, into, one));
            else if (one.Number != into.Number)
                (into, alerts) = (Absorb(into, one), Part(alerts, one, into));
        }

        if (into is not null)
            into = Join(into, problem, now);
        // A known cause is the better story.
        if (earlier.Count == 0)
        {
            if (into is not null)
                alerts = alerts.With(into);
            var together = AtOnce(alerts, problem, known: into is not null);
            if (together.Count > 0 && (into is null || together.Any(one => one.Number == into.Number)))
            {
                into = together[0];
                foreach (var other in together.Skip(1))
                    (into, alerts) = (Absorb(into, other), Part(alerts, other, into));
                if (into.Affected.All(one => one.Service != problem.Service))
                    into = Join(into, problem, now);
                into = into with { Began = together.Select(one => one.Began).Append(problem.At).Min(), Joined = now };
            }
        }

        return alerts.With(into ?? New(alerts.Last + 1, problem, now));
    }

    private static Alert? Find(Alerts alerts, Problem problem, DateTimeOffset now) =>
        alerts.All.Values.LastOrDefault(alert =>
            alert is { PartOf: null }
            && alert.Cause == problem.Cause
            && !(now - alert.OverAt >= Returns)
            && (Topics.Of(problem.Topic).Joins ? alert.Joins : alert.Worst == problem.Topic)
        )
        ?? alerts.All.Values.LastOrDefault(alert =>
            IsOpen(alert)
            && problem.Service is not null
            && Topics.Of(problem.Topic).Joins
            && alert.Joins
            && alert.Affected.Any(one => one.Service == problem.Service && !one.IsWell)
        )
        // What happened to many together and happens to one of them again, once all were well, happens to the others in the same moment.
        ?? alerts.All.Values.LastOrDefault(alert =>
            alert is { PartOf: null, Taken: null, Cause.Kind: CauseKind.Service, Affected.Length: >= Many }
            && problem.Cause.Kind == CauseKind.Service
            && !(now - alert.OverAt >= Returns)
            && (alert.OverAt is not null || alert.WellSince is not null || now - alert.Joined <= Together)
            && alert.Worst == problem.Topic
            && alert.Joins
            && alert.Affected.Any(one => one.Service == problem.Service)
        );

    /// <summary>
    /// Where the same happens to many services within a moment, they have one cause, though it is not known. The moment begins with the
    /// first of them and does not grow: one thing after the other puts nothing off.
    /// </summary>
    /// <param name="known">The problem is in one of the alerts.</param>
    /// <returns>The alerts that are one, the first raised first; none: it is not so.</returns>
    private static List<Alert> AtOnce(Alerts alerts, Problem problem, bool known)
    {
        if (problem.Cause.Kind != CauseKind.Service || !Topics.Of(problem.Topic).Joins)
            return [];
        var near = alerts
            .All.Values.Where(alert =>
                alert is { OverAt: null, PartOf: null, Taken: null, Cause.Kind: CauseKind.Service }
                && alert.Worst == problem.Topic
                && (problem.At - alert.Began).Duration() <= Together
            )
            .ToList();
        foreach (
            var first in near.Select(alert => alert.Began).Append(problem.At).Where(at => at <= problem.At).Order()
        )
        {
            var within = near.Where(alert => alert.Began >= first && alert.Began - first <= Together).ToList();
            if (within.Sum(alert => alert.Affected.Length) + (known ? 0 : 1) >= Many)
                return within;
        }

        return [];
    }

    private static bool IsOpen(Alert alert) => alert is { OverAt: null, PartOf: null };

    /// <summary>Alerts of services that need the one that turns out to be in trouble.</summary>
    private static List<Alert> Because(Alerts alerts, Problem problem, NeedGraph graph, DateTimeOffset now)
    {
        var dependents = graph.WithDependents([problem.Cause.Name]);
        return
        [
            .. alerts.All.Values.Where(alert =>
                IsOpen(alert)
                && alert.Cause.Kind == CauseKind.Service
                && alert.Cause != problem.Cause
                && alert.Joins
                && now - alert.Began < Shortly
                && dependents.Contains(alert.Cause.Name)
            ),
        ];
    }

    private static Alerts Part(Alerts alerts, Alert? part, Alert of) =>
        part is null || part.Number == of.Number
            ? alerts
            : alerts.With(part with { PartOf = of.Number, OverAt = part.OverAt ?? of.Joined });

    private static Alert Absorb(Alert into, Alert? other)
    {
        if (other is null)
            return into;
        foreach (var one in other.Affected)
            into = Put(into, one);
        return into with
        {
            Heard =
            [
                .. into.Heard,
                .. other.Heard.Where(heard => into.Heard.All(one => one.Recipient != heard.Recipient)),
            ],
        };
    }

    private static Alert New(long number, Problem problem, DateTimeOffset now) =>
        new()
        {
            Number = number,
            Cause = problem.Cause,
            Began = problem.At,
            Joined = now,
            Affected = [Of(problem, described: true)],
        };

    private static Affected Of(Problem problem, bool described) =>
        new(problem.Service, problem.Title, problem.At, problem.Entry, described ? problem.What : null, problem.Topic)
        {
            Labels = problem.Labels,
            Tell = problem.Tell,
            IsWell = !Topics.Of(problem.Topic).Lasts,
        };

    private static Alert Join(Alert alert, Problem problem, DateTimeOffset now)
    {
        if (alert.OverAt is not null)
            alert = alert with
            {
                OverAt = null,
                Returns = alert.Returns + 1,
                Began = problem.At,
                Affected = [],
                More = 0,
                Taken = null,
                BackSince = null,
            };
        var came = Of(problem, described: alert.Affected.Length < MostDescribed);
        var before = alert.Affected.FirstOrDefault(one => one.Service == problem.Service);
        alert = before is null
            ? Put(alert, came) with
            {
                Joined = now,
            }
            : alert with
            {
                Joined = before.IsWell ? now : alert.Joined,
                Affected = alert.Affected.Replace(
                    before,
                    came with
                    {
                        Since = before.IsWell ? came.Since : before.Since,
                        Times = before.Times + 1,
                        What = before.What is null ? null : problem.What,
                        Worst = before.IsWell || came.Worst < before.Worst ? came.Worst : before.Worst,
                    }
                ),
            };
        return alert with { WellSince = alert.Affected.All(one => one.IsWell) ? now : null };
    }

    private static Alert Put(Alert alert, Affected one) =>
        alert.Affected.Any(known => known.Service == one.Service) ? alert
        : alert.Affected.Length < MostNamed ? alert with { Affected = alert.Affected.Add(one) }
        : alert with { More = alert.More + 1 };

    /// <summary>Looks whether anything is still wrong.</summary>
    /// <param name="isWrong">Whether it still is with a service.</param>
    public static Alert Look(Alert alert, Func<Affected, bool> isWrong, Pace pace, DateTimeOffset now)
    {
        if (!IsOpen(alert))
            return alert;
        if (alert.Taken is { Until: { } until } && until <= now)
            alert = alert with { Taken = null, BackSince = until };
        var looked = alert.Affected.Select(one =>
            one with
            {
                IsWell = Topics.Of(one.Worst).Lasting switch
                {
                    Lasting.No => true,
                    Lasting.UntilSaid or Lasting.UntilSeen => one.IsWell,
                    _ => !isWrong(one),
                },
            }
        );
        var affected = looked.ToImmutableArray();
        if (!affected.SequenceEqual(alert.Affected))
            alert = alert with { Affected = affected };
        if (affected.Any(one => !one.IsWell))
            return alert.WellSince is null ? alert : alert with { WellSince = null };
        if (alert.WellSince is not { } well)
            return alert with { WellSince = now };
        return now >= well + SteadyOf(alert, pace) ? Over(alert, now) : alert;
    }

    /// <summary>An entry says that what was told of a service until then is not so any more.</summary>
    /// <param name="at">Of what was seen there; null: of all else.</param>
    public static Alert Ended(Alert alert, string? service, Topic topic, AskedAt? at) =>
        IsOpen(alert)
        && (at is { } place ? alert.Cause.Kind == Causes.KindOf(place) : !alert.Cause.IsWhereItAsks)
        && alert.Affected.FirstOrDefault(one => one.Service == service && one.Worst == topic && !one.IsWell) is { } over
            ? alert with
            {
                Affected = alert.Affected.Replace(over, over with { IsWell = true }),
            }
            : alert;

    /// <summary>Of what has happened and is past nobody hears that it is over: whoever heard of it knows.</summary>
    private static Alert Over(Alert alert, DateTimeOffset now) =>
        alert.Lasts ? alert with { OverAt = now } : Close(alert, now);

    /// <summary>Nobody is told any more of it, not even that it is over.</summary>
    public static Alert Close(Alert alert, DateTimeOffset now) =>
        alert with
        {
            OverAt = now,
            WellSince = alert.WellSince ?? now,
            Affected = [.. alert.Affected.Select(one => one with { IsWell = true })],
            Heard = [.. alert.Heard.Select(one => one with { Over = true })],
        };

    /// <summary>
    /// Somebody may say of it that it is done with: it has happened, or only somebody's word ends it. What a service's own state ends goes
    /// on until that is so.
    /// </summary>
    public static bool CanClose(Alert alert) =>
        alert.Affected.All(one => Topics.Of(one.Worst).Lasting is Lasting.No or Lasting.UntilSeen);

    /// <summary>How long it must stay well to be over: the longer, the more often it came back.</summary>
    public static TimeSpan SteadyOf(Alert alert, Pace pace)
    {
        var length = pace.Steady;
        for (var i = 0; i < alert.Returns && length < LongestSteady; i++)
            length *= 4;
        return length < LongestSteady || pace.Steady > LongestSteady ? length : LongestSteady;
    }

    /// <summary>What a recipient is to be told next of an alert if nothing else happens, and when.</summary>
    /// <param name="recipients">All there are: one may be told because another did not answer.</param>
    public static (MessageKind Kind, DateTimeOffset At)? Next(
        Alert alert,
        Recipient recipient,
        IReadOnlyList<Recipient> recipients,
        Pace pace,
        TimeZoneInfo zone
    )
    {
        if (alert.PartOf is not null)
            return null;
        var heard = HeardOf(alert, recipient.Name);
        if (Wanted(alert, recipient, heard, recipients, pace) is not var (kind, at))
            return null;
        var most = kind == MessageKind.Grows ? MostGrowing : MostADay;
        if (heard?.Times is { } times && times.Length >= most && times[^most] + Day > at)
            at = times[^most] + Day;
        if (
            recipient.Hours is { } hours
            && (alert.Urgency == Urgency.CanWait || kind is MessageKind.Over or MessageKind.Stays)
        )
            at = hours.Next(at, zone);
        return (kind, at);
    }

    /// <summary>Of what else joins the alert this recipient is not told today.</summary>
    public static bool IsLastToGrow(Alert alert, Recipient recipient, DateTimeOffset now) =>
        HeardOf(alert, recipient.Name)?.Times.Count(time => now - time < Day) == MostGrowing - 1;

    private static Heard? HeardOf(Alert alert, string recipient) =>
        alert.Heard.FirstOrDefault(one => one.Recipient == recipient);

    private static (MessageKind, DateTimeOffset)? Wanted(
        Alert alert,
        Recipient recipient,
        Heard? heard,
        IReadOnlyList<Recipient> recipients,
        Pace pace
    )
    {
        if (heard is null || heard.Over)
            return IsToldOf(alert, heard) && Reaches(alert, recipient, recipients) is { } since
                ? (heard is null ? MessageKind.Begins : MessageKind.Again, since)
                : null;
        var last = heard.Times[^1];
        if (alert.OverAt is { } over)
            return alert.Lasts ? (MessageKind.Over, over) : null;
        if (IsWorse(alert.Worst, heard.Worst))
            return (MessageKind.Worse, last);
        if (alert.Taken is not null)
            return null;
        if (alert.Count > heard.Known)
        {
            var rested = alert.Joined + pace.Gather;
            if (!alert.Joins)
                return (MessageKind.Grows, heard.Messages > 1 ? Later(rested, last + BetweenRepeats) : rested);
            // However many come one after the other, whoever came first is not waited with for longer.
            var first = heard.Known < alert.Affected.Length ? alert.Affected[heard.Known].Since : alert.Joined;
            var latest = Later(first, last) + pace.Gather + Together;
            return (MessageKind.Grows, rested < latest ? rested : latest);
        }

        if (alert is not { Lasts: true, WellSince: null })
            return null;
        if (alert.BackSince is { } back && last < back)
            return (MessageKind.Stays, back);
        return pace.Remind > TimeSpan.Zero ? (MessageKind.Stays, last + pace.Remind) : null;
    }

    private static DateTimeOffset Later(DateTimeOffset one, DateTimeOffset other) => one > other ? one : other;

    /// <summary>What goes on is told of, and what has happened, though it is past by the time the recipient's hours begin.</summary>
    private static bool IsToldOf(Alert alert, Heard? heard) => alert.OverAt is null || (heard is null && !alert.Lasts);

    /// <summary>That it has given up, or that what could wait cannot any more.</summary>
    private static bool IsWorse(Topic now, Topic told) =>
        now < told && (now <= Topic.StartFailed || Topics.Of(now).Urgency > Topics.Of(told).Urgency);

    /// <summary>From when on a recipient is to know of it; null: never, as things are.</summary>
    private static DateTimeOffset? Reaches(Alert alert, Recipient recipient, IReadOnlyList<Recipient> recipients)
    {
        if (recipient.Hears(alert))
            return alert.Began;
        if (alert.Taken is not null || alert is not { Lasts: true, WellSince: null, Urgency: Urgency.Urgent })
            return null;
        return recipients
            .Where(one => one.Next == recipient.Name)
            .Select(one =>
                HeardOf(alert, one.Name) is { Over: false } told ? told.Since + one.After : (DateTimeOffset?)null
            )
            .Min();
    }

    /// <summary>A recipient has been told.</summary>
    public static Alert Told(Alert alert, string recipient, MessageKind kind, DateTimeOffset now)
    {
        var before = HeardOf(alert, recipient);
        var times = before?.Times ?? [];
        var heard = new Heard(
            recipient,
            before is { Over: false } ? before.Since : now,
            [.. times.Skip(Math.Max(0, times.Length - MostADay + 1)), now],
            kind == MessageKind.Over,
            alert.Count,
            before is { Over: false } && before.Worst < alert.Worst ? before.Worst : alert.Worst,
            (before?.Messages ?? 0) + 1
        );
        return alert with { Heard = before is null ? alert.Heard.Add(heard) : alert.Heard.Replace(before, heard) };
    }

    /// <summary>
    /// Somebody looks at it: until it is over, or until a time, nobody is told of it again but of what is worse. What lasts only until
    /// somebody has seen it is over by that.
    /// </summary>
    public static Alert Acknowledge(Alert alert, Taken taken, DateTimeOffset now)
    {
        alert = alert with { Taken = taken, BackSince = null };
        return taken.Until is null && alert.Affected.All(one => Topics.Of(one.Worst).Lasting == Lasting.UntilSeen)
            ? Close(alert, now)
            : alert;
    }

    /// <summary>It cannot come again, and nobody is to be told of it any more.</summary>
    public static bool IsForgotten(Alert alert, DateTimeOffset now) => now - alert.OverAt >= Returns;
}
