using System.Collections.Immutable;
using CalmSentry.Core.Entries;

namespace CalmSentry.Core.Telling;

/// <summary>Something that happened and that a person may be told of.</summary>
/// <param name="Entry">The logbook's entry of it.</param>
/// <param name="Service">Null: it is about the sentry or its machine.</param>
/// <param name="What">What happened, as sentences.</param>
public sealed record Problem(
    long Entry,
    DateTimeOffset At,
    string? Service,
    string Title,
    Topic Topic,
    AlertCause Cause,
    string What
)
{
    /// <summary>Labels of its service: who hears of it goes by them.</summary>
    public ImmutableArray<string> Labels { get; init; } = [];

    /// <summary>Whom its definition names, beside those.</summary>
    public ImmutableArray<string> Tell { get; init; } = [];
}

/// <summary>A service that an alert is about, or the sentry itself.</summary>
/// <param name="Service">Null: the sentry or its machine.</param>
/// <param name="Since">When it came in.</param>
/// <param name="Entry">The logbook's entry of the latest that happened to it.</param>
/// <param name="What">The latest, as sentences; of the first few alone.</param>
/// <param name="Worst">The worst of what happened to it since it was last well.</param>
public sealed record Affected(
    string? Service,
    string Title,
    DateTimeOffset Since,
    long Entry,
    string? What,
    Topic Worst
)
{
    public ImmutableArray<string> Labels { get; init; } = [];

    /// <summary>Whom its definition names.</summary>
    public ImmutableArray<string> Tell { get; init; } = [];

    /// <summary>How often something happened to it.</summary>
    public int Times { get; init; } = 1;

    /// <summary>Nothing is wrong with it any more.</summary>
    public bool IsWell { get; init; }
}

/// <summary>Somebody who looks at it.</summary>
/// <param name="Until">It is put aside until then, and told again if it is still so; null: until it is over.</param>
public sealed record Taken(string By, DateTimeOffset At, string? Note, DateTimeOffset? Until = null);

/// <summary>What one recipient was told of an alert.</summary>
/// <param name="Times">When, the latest few, oldest first.</param>
/// <param name="Over">The last word was that it is over.</param>
/// <param name="Since">When it was first told, since it was last told that it is over.</param>
/// <param name="Known">So many services were named, or counted.</param>
/// <param name="Worst">The worst that was told.</param>
/// <param name="Messages">How many messages it had, in all.</param>
public sealed record Heard(
    string Recipient,
    DateTimeOffset Since,
    ImmutableArray<DateTimeOffset> Times,
    bool Over,
    int Known,
    Topic Worst,
    int Messages
);

/// <summary>
/// One cause that somebody is told of, from its beginning to its end, with all that happened because of it. It is on record, so
/// a returning server goes on exactly where it was.
/// </summary>
public sealed record Alert
{
    public required long Number { get; init; }

    public required AlertCause Cause { get; init; }

    public required DateTimeOffset Began { get; init; }

    /// <summary>In the order in which they came, the first of them; the rest is counted in <see cref="More"/>.</summary>
    public required ImmutableArray<Affected> Affected { get; init; }

    public int More { get; init; }

    /// <summary>When the latest of them came.</summary>
    public required DateTimeOffset Joined { get; init; }

    /// <summary>Since when nothing is wrong; null: something is.</summary>
    public DateTimeOffset? WellSince { get; init; }

    /// <summary>When it had stayed well for long enough; null: it goes on.</summary>
    public DateTimeOffset? OverAt { get; init; }

    /// <summary>How often it came again after it was over.</summary>
    public int Returns { get; init; }

    /// <summary>It turned out to be part of another one; null: it stands for itself.</summary>
    public long? PartOf { get; init; }

    public Taken? Taken { get; init; }

    /// <summary>When the time was over for which somebody had put it aside; null: nobody had.</summary>
    public DateTimeOffset? BackSince { get; init; }

    public ImmutableArray<Heard> Heard { get; init; } = [];

    /// <summary>Services it is about, in all; of what has happened and is past, how often it happened.</summary>
    public int Count => (Joins ? Affected.Length : Affected.Sum(one => one.Times)) + More;

    public Topic Worst => Affected.Min(one => one.Worst);

    /// <summary>It goes on by itself until it ends; else it has happened, and that is all.</summary>
    public bool Lasts => Affected.Any(one => Topics.Of(one.Worst).Lasts);

    /// <summary>What else befalls its services is told with it.</summary>
    public bool Joins => Affected.Any(one => Topics.Of(one.Worst).Joins);

    public Urgency Urgency => Affected.Max(one => Topics.Of(one.Worst).Urgency);

    /// <summary>The same by the worst that people were told of it: its title does not change when it has become better on its way.</summary>
    /// <param name="recipient">Who was told; null: anybody.</param>
    public Alert AsTold(string? recipient)
    {
        var first = MessageWords.First(this);
        var told = Heard
            .Where(one => recipient is null || one.Recipient == recipient)
            .Select(one => one.Worst)
            .Append(first.Worst)
            .Min();
        return told < first.Worst && Topics.Of(told).Joins
            ? this with
            {
                Affected = Affected.Replace(first, first with { Worst = told }),
            }
            : this;
    }

    /// <summary>The same after a service got another name. What people were told of it keeps its title.</summary>
    public Alert Renamed(string was, string now) =>
        Affected.All(one => one.Service != was) && !Cause.IsOf(was)
            ? this
            : this with
            {
                Cause = Cause.IsOf(was) ? Cause with { Name = now } : Cause,
                Affected = [.. Affected.Select(one => one.Service == was ? one with { Service = now } : one)],
            };

    /// <summary>The same by a clock that was set: what is waited for keeps its length.</summary>
    public Alert Shifted(TimeSpan skew) =>
        skew == TimeSpan.Zero
            ? this
            : this with
            {
                Joined = Joined + skew,
                WellSince = WellSince + skew,
                BackSince = BackSince + skew,
                Taken = Taken is { } taken ? taken with { Until = taken.Until + skew } : null,
                Heard =
                [
                    .. Heard.Select(one =>
                        one with
                        {
                            Since = one.Since + skew,
                            Times = [.. one.Times.Select(time => time + skew)],
                        }
                    ),
                ],
            };
}
