using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>The fields of an entry of the logbook (form 2); its kind stands beside it. Lengths are in microseconds.</summary>
internal sealed record EntryRecord : IRecord
{
    public int Form { get; init; }

    public long? Run { get; init; }

    public int? Pid { get; init; }

    public OutcomeRecord? Outcome { get; init; }

    public bool FailedStart { get; init; }

    public bool Forced { get; init; }

    public long? Took { get; init; }

    public long? Usual { get; init; }

    public long? Limit { get; init; }

    public long? Pause { get; init; }

    public DateTimeOffset? Moment { get; init; }

    public long? Count { get; init; }

    public int? Revision { get; init; }

    public string? Name { get; init; }

    public string? About { get; init; }

    public ImmutableArray<string>? Names { get; init; }

    public string? Seen { get; init; }

    public ImmutableArray<ChangeRecord>? Changes { get; init; }

    public string? From { get; init; }

    public string? Next { get; init; }

    public static EntryRecord Of(EntryFields entry) =>
        new()
        {
            Form = Forms.Entry,
            Run = entry.Run,
            Pid = entry.Pid,
            Outcome = entry.Outcome is { } outcome ? OutcomeRecord.Of(outcome) : null,
            FailedStart = entry.FailedStart,
            Forced = entry.Forced,
            Took = Of(entry.Took),
            Usual = Of(entry.Usual),
            Limit = Of(entry.Limit),
            Pause = Of(entry.Pause),
            Moment = entry.Moment,
            Count = entry.Count,
            Revision = entry.Revision,
            Name = entry.Name,
            About = entry.About,
            Names = SituationRecord.Some(entry.Names),
            Seen = entry.Seen,
            Changes = SituationRecord.Some(
                entry.Changes.ToRecords(change => new ChangeRecord(change.Key, change.Was, change.Is))
            ),
            From = entry.From,
            Next = entry.Next == default ? null : Words.Of(entry.Next),
        };

    public EntryFields ToCore() =>
        new()
        {
            Run = Run is { } run ? new(run) : null,
            Pid = Pid,
            Outcome = Outcome?.ToCore(),
            FailedStart = FailedStart,
            Forced = Forced,
            Took = To(Took),
            Usual = To(Usual),
            Limit = To(Limit),
            Pause = To(Pause),
            Moment = Moment,
            Count = Count,
            Revision = Revision,
            Name = Name,
            About = About,
            Names = Names ?? [],
            Seen = Seen,
            Changes = (Changes ?? []).ToRecords(change => new DefinitionChange(change.Key, change.Was, change.Is)),
            From = From,
            Next = Next is { } next ? Words.To<EntryNext>(next) : default,
        };

    private static long? Of(TimeSpan? length) => length is { } some ? Micros.Of(some) : null;

    private static TimeSpan? To(long? length) => length is { } some ? Micros.To(some) : null;
}

internal sealed record ChangeRecord(string Key, string? Was, string? Is);
