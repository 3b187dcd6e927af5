using System.Collections.Immutable;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Telling;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>An alert, as it is stored (form 1).</summary>
internal sealed record AlertRecord : IRecord
{
    public int Form { get; init; }

    public required long Number { get; init; }

    public required string CauseKind { get; init; }

    public string? CauseName { get; init; }

    public required DateTimeOffset Began { get; init; }

    public ClockRecord? Saved { get; init; }

    public required ImmutableArray<AffectedRecord> Affected { get; init; }

    public int More { get; init; }

    public required DateTimeOffset Joined { get; init; }

    public DateTimeOffset? WellSince { get; init; }

    public DateTimeOffset? OverAt { get; init; }

    public int Returns { get; init; }

    public long? PartOf { get; init; }

    public TakenRecord? Taken { get; init; }

    public DateTimeOffset? BackSince { get; init; }

    public ImmutableArray<HeardRecord>? Heard { get; init; }

    public static AlertRecord Of(Alert alert) =>
        new()
        {
            Form = Forms.Alert,
            Number = alert.Number,
            CauseKind = Words.Of(alert.Cause.Kind),
            CauseName = alert.Cause.Name.Length == 0 ? null : alert.Cause.Name,
            Began = alert.Began,
            Affected = alert.Affected.ToRecords(AffectedRecord.Of),
            More = alert.More,
            Joined = alert.Joined,
            WellSince = alert.WellSince,
            OverAt = alert.OverAt,
            Returns = alert.Returns,
            PartOf = alert.PartOf,
            Taken = alert.Taken is { } taken ? new(taken.By, taken.At, taken.Note, taken.Until) : null,
            BackSince = alert.BackSince,
            Heard = SituationRecord.Some(alert.Heard.ToRecords(HeardRecord.Of)),
        };

    public Alert ToCore() =>
        new()
        {
            Number = Number,
            Cause = new(Words.To<CauseKind>(CauseKind), CauseName ?? ""),
            Began = Began,
            Affected = Affected.ToRecords(one => one.ToCore()),
            More = More,
            Joined = Joined,
            WellSince = WellSince,
            OverAt = OverAt,
            Returns = Returns,
            PartOf = PartOf,
            Taken = Taken is { } taken ? new(taken.By, taken.At, taken.Note, taken.Until) : null,
            BackSince = BackSince,
            Heard = (Heard ?? []).ToRecords(one => one.ToCore()),
        };
}

internal sealed record TakenRecord(string By, DateTimeOffset At, string? Note, DateTimeOffset? Until = null);

internal sealed record AffectedRecord(
    string? Service,
    string Title,
    DateTimeOffset Since,
    long Entry,
    string? What,
    string Worst,
    ImmutableArray<string>? Labels,
    int Times,
    bool IsWell,
    ImmutableArray<string>? Tell = null
)
{
    public static AffectedRecord Of(Affected one) =>
        new(
            one.Service,
            one.Title,
            one.Since,
            one.Entry,
            one.What,
            Words.Of(one.Worst),
            SituationRecord.Some(one.Labels),
            one.Times,
            one.IsWell,
            SituationRecord.Some(one.Tell)
        );

    public Affected ToCore() =>
        new(Service, Title, Since, Entry, What, Words.To<Topic>(Worst))
        {
            Labels = Labels ?? [],
            Tell = Tell ?? [],
            Times = Times,
            IsWell = IsWell,
        };
}

internal sealed record HeardRecord(
    string Recipient,
    DateTimeOffset Since,
    ImmutableArray<DateTimeOffset> Times,
    bool Over,
    int Known,
    string Worst,
    int Messages
)
{
    public static HeardRecord Of(Heard one) =>
        new(one.Recipient, one.Since, one.Times, one.Over, one.Known, Words.Of(one.Worst), one.Messages);

    public Heard ToCore() => new(Recipient, Since, Times, Over, Known, Words.To<Topic>(Worst), Messages);
}

/// <summary>A message, as it is stored (form 1).</summary>
internal sealed record MessageRecord : IRecord
{
    public int Form { get; init; }

    public required string Kind { get; init; }

    public long Alert { get; init; }

    public required string Host { get; init; }

    public required DateTimeOffset At { get; init; }

    public required string Urgency { get; init; }

    public string? Service { get; init; }

    /// <summary>Null: it is about no alert. Reports and trials of before have one all the same.</summary>
    public string? Topic { get; init; }

    public required string Subject { get; init; }

    public required string Lead { get; init; }

    public required ImmutableArray<MessagePartRecord> Parts { get; init; }

    public string? InsteadOf { get; init; }

    public bool WithPicture { get; init; }

    public ImmutableArray<StripRecord>? Strips { get; init; }

    public ImmutableArray<string>? Scale { get; init; }

    public static MessageRecord Of(Message message) =>
        new()
        {
            Form = Forms.Message,
            Kind = Words.Of(message.Kind),
            Alert = message.Alert,
            Host = message.Host,
            At = message.At,
            Urgency = Words.Of(message.Urgency),
            Service = message.Service,
            Topic = message.Topic is { } topic ? Words.Of(topic) : null,
            Subject = message.Subject,
            Lead = message.Lead,
            Parts = message.Parts.ToRecords(part => new MessagePartRecord(part.Title, part.Lines, part.Quoted)),
            InsteadOf = message.InsteadOf,
            WithPicture = message.WithPicture,
            Strips = SituationRecord.Some(message.Strips.ToRecords(StripRecord.Of)),
            Scale = SituationRecord.Some(message.Scale),
        };

    public Message ToCore() =>
        new()
        {
            Kind = Words.To<MessageKind>(Kind),
            Alert = Alert,
            Host = Host,
            At = At,
            Urgency = Words.To<Urgency>(Urgency),
            Service = Service,
            Topic = Topic is null ? null : Words.To<Topic>(Topic),
            Subject = Subject,
            Lead = Lead,
            Parts = Parts.ToRecords(part => new MessagePart(part.Title, part.Lines, part.Quoted)),
            InsteadOf = InsteadOf,
            WithPicture = WithPicture,
            Strips = (Strips ?? []).ToRecords(strip => strip.ToCore()),
            Scale = Scale ?? [],
        };
}

internal sealed record StripRecord(string Service, string Title, ImmutableArray<StripPartRecord> Parts)
{
    public static StripRecord Of(Strip strip) =>
        new(
            strip.Service,
            strip.Title,
            strip.Parts.ToRecords(part => new StripPartRecord(part.From, part.To, Words.Of(part.Time)))
        );

    public Strip ToCore() =>
        new(
            Service,
            Title,
            Parts.ToRecords(part => new StripPart(part.From, part.To, Words.To<Core.Lifecycle.ServiceTime>(part.Time)))
        );
}

internal sealed record StripPartRecord(double From, double To, string Time);

internal sealed record MessagePartRecord(string? Title, ImmutableArray<string> Lines, bool Quoted);
