using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>A plan under way, as it is stored (form 1).</summary>
internal sealed record PlanRecord : IRecord
{
    public int Form { get; init; }

    public required string Kind { get; init; }

    public required string By { get; init; }

    /// <summary>Of who asked; null: an account.</summary>
    public string? ByKind { get; init; }

    public required DateTimeOffset Began { get; init; }

    /// <summary>The reading of both clocks by which its moments are told; null: of an earlier version.</summary>
    public ClockRecord? Saved { get; init; }

    public required string Step { get; init; }

    public ImmutableArray<PlanStopRecord>? Stops { get; init; }

    public DateTimeOffset? BegunAt { get; init; }

    public ImmutableArray<PlanBeginRecord>? Begins { get; init; }

    public ImmutableArray<string>? Afterwards { get; init; }

    public DateTimeOffset? ForceAt { get; init; }

    public bool Forced { get; init; }

    public static PlanRecord Of(Plan plan) =>
        new()
        {
            Form = Forms.Plan,
            Kind = Words.Of(plan.Kind),
            By = plan.By.Name,
            ByKind = plan.By.Kind == default ? null : Words.Of(plan.By.Kind),
            Began = plan.Began,
            Step = Words.Of(plan.Step),
            Stops = SituationRecord.Some(
                plan.Stops.ToRecords(stop => new PlanStopRecord(
                    stop.Name,
                    SituationRecord.Some(stop.After),
                    stop.AskedAt,
                    stop.Run,
                    stop.DownAt,
                    stop.Forced
                ))
            ),
            BegunAt = plan.BegunAt,
            Begins = SituationRecord.Some(
                plan.Begins.ToRecords(begin => new PlanBeginRecord(begin.Name, begin.Asked, begin.From, begin.Wanted))
            ),
            Afterwards = SituationRecord.Some(plan.Afterwards),
            ForceAt = plan.ForceAt,
            Forced = plan.Forced,
        };

    public Plan ToCore() =>
        new()
        {
            Kind = Words.To<PlanKind>(Kind),
            By = new(By, ByKind is { } kind ? Words.To<PrincipalKind>(kind) : default),
            Began = Began,
            Step = Words.To<PlanStep>(Step),
            Stops = (Stops ?? []).ToRecords(stop => new PlanStop(stop.Name, stop.After ?? [])
            {
                AskedAt = stop.AskedAt,
                Run = new(stop.Run),
                DownAt = stop.DownAt,
                Forced = stop.Forced,
            }),
            BegunAt = BegunAt,
            Begins = (Begins ?? []).ToRecords(begin => new PlanBegin(
                begin.Name,
                begin.Asked,
                new(begin.From),
                begin.Wanted
            )),
            Afterwards = Afterwards ?? [],
            ForceAt = ForceAt,
            Forced = Forced,
        };
}

internal sealed record PlanStopRecord(
    string Name,
    ImmutableArray<string>? After,
    DateTimeOffset? AskedAt,
    long Run,
    DateTimeOffset? DownAt,
    bool Forced
);

/// <param name="Wanted">Not among the plans of earlier versions.</param>
internal sealed record PlanBeginRecord(string Name, bool Asked, long From, bool Wanted);
