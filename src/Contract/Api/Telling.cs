using CalmSentry.Core.Entries;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Telling;

namespace CalmSentry.Contract.Api;

/// <summary>One cause that people are told of, from its beginning to its end.</summary>
public sealed record AlertView
{
    public required long Number { get; init; }

    public required CauseKind Cause { get; init; }

    /// <summary>Of the cause: the service, the path, the address or the account.</summary>
    public string? CauseName { get; init; }

    /// <summary>What is wrong: one line.</summary>
    public required string Subject { get; init; }

    /// <summary>The worst of what happened.</summary>
    public required Topic Topic { get; init; }

    public required Urgency Urgency { get; init; }

    public required DateTimeOffset Began { get; init; }

    /// <summary>Since when nothing is wrong; null: something is.</summary>
    public DateTimeOffset? WellSince { get; init; }

    /// <summary>When it had stayed well for long enough; null: it goes on.</summary>
    public DateTimeOffset? Over { get; init; }

    /// <summary>How often it came again after it was over.</summary>
    public required int Returns { get; init; }

    /// <summary>The alert that it turned out to be part of; null: it stands for itself.</summary>
    public long? PartOf { get; init; }

    /// <summary>Who looks at it, since when, and what they said; null: nobody has said so.</summary>
    public string? TakenBy { get; init; }

    public DateTimeOffset? TakenAt { get; init; }

    public string? TakenNote { get; init; }

    /// <summary>It is put aside until then, and told again if it is still so; null: until it is over.</summary>
    public DateTimeOffset? TakenUntil { get; init; }

    /// <summary>It goes on until something ends it; else it has happened, and that is all.</summary>
    public required bool Lasts { get; init; }

    /// <summary>Somebody may say that it is done with.</summary>
    public required bool MayBeClosed { get; init; }

    /// <summary>The services it is about, in the order in which they came; the first 2000.</summary>
    public required IReadOnlyList<AffectedView> Affected { get; init; }

    /// <summary>How many more there are.</summary>
    public required int More { get; init; }

    /// <summary>Who was told.</summary>
    public required IReadOnlyList<HeardView> Heard { get; init; }
}

/// <param name="Service">Null: the sentry or its machine.</param>
/// <param name="What">The latest that happened to it, as sentences; of the first 50 alone.</param>
/// <param name="Times">How often something happened to it.</param>
/// <param name="Well">Nothing is wrong with it any more.</param>
public sealed record AffectedView(
    string? Service,
    string Title,
    DateTimeOffset Since,
    Topic Topic,
    string? What,
    int Times,
    bool Well
);

/// <param name="Last">When the latest message was made.</param>
/// <param name="Messages">How many there were.</param>
public sealed record HeardView(string Recipient, DateTimeOffset Last, int Messages);

/// <summary>A message to one recipient.</summary>
public sealed record MessageView
{
    public required long Number { get; init; }

    /// <summary>By which a receiver drops a double.</summary>
    public required string Id { get; init; }

    /// <summary>The alert it is about.</summary>
    public required long Alert { get; init; }

    public required string Recipient { get; init; }

    /// <summary>Null: it cannot be read any more.</summary>
    public MessageKind? Kind { get; init; }

    public required DateTimeOffset At { get; init; }

    public required MessageState State { get; init; }

    /// <summary>How often it was sent.</summary>
    public required int Tries { get; init; }

    public DateTimeOffset? Tried { get; init; }

    /// <summary>What its way said last, as a clause.</summary>
    public string? Answer { get; init; }

    public string? Subject { get; init; }

    /// <summary>All of it, as text.</summary>
    public string? Text { get; init; }
}

/// <summary>Somebody who is told, as the settings have it.</summary>
public sealed record RecipientView
{
    public required string Name { get; init; }

    /// <summary>What reaches them and how, as a clause.</summary>
    public required string Said { get; init; }

    /// <summary>Messages that wait.</summary>
    public required int Waiting { get; init; }

    /// <summary>When a message was last delivered; null: none since the sentry began.</summary>
    public DateTimeOffset? Last { get; init; }

    /// <summary>Why nothing gets there, as a sentence; null: all does.</summary>
    public string? Trouble { get; init; }
}

/// <summary>What happened in a time.</summary>
public sealed record ReportView
{
    public required DateTimeOffset From { get; init; }

    public required DateTimeOffset Until { get; init; }

    public required string Subject { get; init; }

    /// <summary>All of it as text.</summary>
    public required string Text { get; init; }

    /// <summary>All of it as a document.</summary>
    public required string Html { get; init; }

    public required string Lead { get; init; }

    public required IReadOnlyList<ReportPartView> Parts { get; init; }

    /// <summary>How each service fared, as a picture; none when all was well.</summary>
    public required IReadOnlyList<StripView> Strips { get; init; }
}

/// <param name="Part">Which part of the report.</param>
public sealed record ReportPartView(ReportPart Part, string Title, IReadOnlyList<string> Lines);

public sealed record StripView(string Service, string Title, IReadOnlyList<StripPartView> Parts);

/// <param name="From">Where it begins, of the whole from 0 to 1.</param>
public sealed record StripPartView(double From, double To, ServiceTime Time);

/// <summary>A message that somebody would have got.</summary>
public sealed record WouldBeView(DateTimeOffset At, string Recipient, MessageKind Kind, string Subject);

/// <summary>Somebody looks at an alert.</summary>
public sealed record AcknowledgeOrder
{
    /// <summary>For others; null: nothing is to be said.</summary>
    public string? Note { get; init; }

    /// <summary>
    /// It is put aside until then, a time to come or a length from now, and told again if it is still so; null: until it is over.
    /// </summary>
    public string? Until { get; init; }
}

/// <summary>A trial under way: a line of what goes to and fro, or what came of it.</summary>
public sealed record TrialEvent
{
    public string? Line { get; init; }

    /// <summary>At the end: its way has it.</summary>
    public bool? CameTrue { get; init; }

    /// <summary>At the end: what came of it, as a sentence.</summary>
    public string? Said { get; init; }
}
