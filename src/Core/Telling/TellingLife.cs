using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Telling;

/// <summary>All that telling people keeps in mind.</summary>
public sealed record TellingState(Alerts Alerts, FailureCount Failures)
{
    public static TellingState None { get; } = new(Alerts.None, FailureCount.None);

    /// <summary>The same by a clock that was set.</summary>
    public TellingState Shifted(TimeSpan skew) =>
        skew == TimeSpan.Zero
            ? this
            : this with
            {
                Alerts = Alerts.All.Values.Aggregate(Alerts, (all, alert) => all.With(alert.Shifted(skew))),
            };

    /// <summary>A service is called otherwise: what goes on about it goes on.</summary>
    public TellingState Renamed(string was, string now) =>
        new(
            Alerts.All.Values.Aggregate(Alerts, (all, alert) => all.With(alert.Renamed(was, now))),
            Failures.Renamed(was, now)
        );
}

public abstract record TellingInput;

/// <summary>An entry of the logbook.</summary>
public sealed record EntryCame(long Number, DateTimeOffset At, string? Service, Entry Entry, bool Tells) : TellingInput;

/// <summary>Somebody looks at an alert.</summary>
public sealed record AlertTaken(long Number, Taken By) : TellingInput;

/// <summary>Somebody says of an alert that it is done with.</summary>
public sealed record AlertClosed(long Number) : TellingInput;

/// <summary>What telling goes by beside what it keeps in mind: the settings, and how services are, now or as they were.</summary>
public interface ITellingGround
{
    IReadOnlyList<Recipient> Recipients { get; }

    Pace Pace { get; }

    TimeZoneInfo Zone { get; }

    NeedGraph Graph { get; }

    /// <summary>What people call the machine.</summary>
    string Machine { get; }

    /// <returns>Null: there is none of that name.</returns>
    Definition? Named(string service);

    bool IsQuiet(string service);

    /// <summary>Whether a service is in trouble, or on its way out of it.</summary>
    bool IsInTrouble(string service);

    /// <summary>Whether what was told of is still so. What nobody is to run any more is not wrong.</summary>
    bool IsWrong(Affected one);

    /// <summary>What a service misses that others may miss as well.</summary>
    /// <returns>Null: nothing.</returns>
    AlertCause? MissedBy(Definition definition);
}

/// <summary>That a recipient is to be told something of an alert, now.</summary>
/// <param name="Alert">As it stands before.</param>
public sealed record Due(Alert Alert, MessageKind Kind, Recipient Recipient);

/// <param name="Changed">Alerts that are otherwise than before.</param>
/// <param name="Next">When to look again, if nothing comes; null: only when something does.</param>
public sealed record TellingTurn(
    TellingState After,
    ImmutableArray<Alert> Changed,
    ImmutableArray<Due> Due,
    DateTimeOffset? Next
);

/// <summary>
/// What people are told: entries of the logbook become alerts, and alerts messages. One step, for the road that is live, for a replay of
/// the past, and for tests. What becomes of one alert is in <see cref="AlertLife"/>.
/// </summary>
public static class TellingLife
{
    /// <summary>While an alert goes on, it is looked at so often.</summary>
    private static readonly TimeSpan Beat = TimeSpan.FromSeconds(1);

    /// <summary>Takes in what came, looks at what goes on, and says what is due.</summary>
    public static TellingTurn Step(
        TellingState before,
        IEnumerable<TellingInput> inputs,
        ITellingGround ground,
        DateTimeOffset now
    )
    {
        var telling = before;
        foreach (var input in inputs)
            telling = input switch
            {
                EntryCame { Entry: RenamedEntry renamed, Service: { } name } => telling.Renamed(renamed.Was, name),
                EntryCame came => TakeIn(telling, came, ground, now),
                AlertTaken taken => With(telling, taken.Number, alert => AlertLife.Acknowledge(alert, taken.By, now)),
                AlertClosed closed => With(
                    telling,
                    closed.Number,
                    alert => AlertLife.CanClose(alert) ? AlertLife.Close(alert, now) : alert
                ),
                _ => telling,
            };
        var alerts = telling.Alerts;
        foreach (var alert in alerts.All.Values)
            alerts = alerts.With(AlertLife.Look(alert, ground.IsWrong, ground.Pace, now));
        (alerts, var due, var next) = DueNow(alerts, ground, now);
        ImmutableArray<Alert> changed =
        [
            .. alerts.All.Values.Where(alert => before.Alerts.All.GetValueOrDefault(alert.Number) != alert),
        ];
        var gone = alerts.All.Values.Where(alert => AlertLife.IsForgotten(alert, now)).Select(alert => alert.Number);
        alerts = alerts with { All = alerts.All.RemoveRange(gone.ToList()) };
        if (alerts.All.Values.Any(IsOpen) && !(next < now + Beat))
            next = now + Beat;
        return new(new(alerts, telling.Failures.Lately(now, ground.Pace)), changed, due, next);
    }

    private static bool IsOpen(Alert alert) => alert is { OverAt: null, PartOf: null };

    /// <summary>All that an entry is about, of what somebody may want to hear of.</summary>
    private static TellingState TakeIn(TellingState telling, EntryCame came, ITellingGround ground, DateTimeOffset now)
    {
        // What the heart keeps back in a quiet time is not told for other reasons, either.
        if (!came.Tells && came.Service is { } quiet && ground.IsQuiet(quiet))
            return telling;
        if (came.Entry.Ends is { } over)
            telling = telling with
            {
                Alerts = telling.Alerts.All.Values.Aggregate(
                    telling.Alerts,
                    (all, alert) => all.With(AlertLife.Ended(alert, came.Service, over, came.Entry.Asks))
                ),
            };
        var definition = came.Service is { } service ? ground.Named(service) : null;
        var often = false;
        if (definition is not null && FailureCount.IsFailure(came.Entry))
        {
            (var failures, often) = telling.Failures.With(definition.Name, came.At, ground.Pace);
            telling = telling with { Failures = failures };
        }

        var isJob = definition?.IsJob == true;
        Topic?[] topics = [came.Entry.TopicIf(came.Tells, isJob), often && !isJob ? Topic.FailsOften : null];
        foreach (var topic in topics.OfType<Topic>())
            // What is not usual is no alert unless somebody wants to hear of it.
            if (Topics.IsUsual(topic) || ground.Recipients.Any(one => one.About.Contains(Words.Of(topic))))
                telling = telling with { Alerts = Raise(telling.Alerts, came, definition, topic, ground, now) };
        return telling;
    }

    private static Alerts Raise(
        Alerts alerts,
        EntryCame came,
        Definition? definition,
        Topic topic,
        ITellingGround ground,
        DateTimeOffset now
    )
    {
        var cause =
            came.Service is null ? AlertCause.Machine
            : definition is null ? AlertCause.Of(came.Service)
            : Causes.Of(
                came.Entry,
                definition,
                ground.Graph,
                Topics.Of(topic).Joins,
                ground.MissedBy,
                other => ground.IsInTrouble(other) || IsAffected(alerts, other)
            );
        var problem = new Problem(
            came.Number,
            came.At,
            came.Service,
            definition?.Title ?? came.Service ?? ground.Machine,
            topic,
            cause,
            came.Entry.Text
        )
        {
            Labels = definition?.Labels ?? [],
            Tell = definition?.Tell ?? [],
        };
        return AlertLife.Raise(alerts, problem, ground.Graph, now);
    }

    private static bool IsAffected(Alerts alerts, string service) =>
        alerts.All.Values.Any(alert =>
            IsOpen(alert) && alert.Joins && alert.Affected.Any(one => one.Service == service && !one.IsWell)
        );

    private static TellingState With(TellingState telling, long number, Func<Alert, Alert> change) =>
        telling.Alerts.All.GetValueOrDefault(number) is { } alert && IsOpen(alert)
            ? telling with
            {
                Alerts = telling.Alerts.With(change(alert)),
            }
            : telling;

    private static (Alerts After, ImmutableArray<Due> Due, DateTimeOffset? Next) DueNow(
        Alerts alerts,
        ITellingGround ground,
        DateTimeOffset now
    )
    {
        var due = ImmutableArray.CreateBuilder<Due>();
        DateTimeOffset? next = null;
        foreach (var number in alerts.All.Keys)
        foreach (var recipient in ground.Recipients)
        {
            var alert = alerts.All[number];
            if (AlertLife.Next(alert, recipient, ground.Recipients, ground.Pace, ground.Zone) is not var (kind, at))
                continue;
            if (at > now)
            {
                next = next < at ? next : at;
                continue;
            }

            due.Add(new(kind == MessageKind.Over ? alert.AsTold(recipient.Name) : alert, kind, recipient));
            alerts = alerts.With(AlertLife.Told(alert, recipient.Name, kind, now));
        }

        return (alerts, due.ToImmutable(), next);
    }
}
