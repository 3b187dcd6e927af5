using System.Collections.Immutable;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>A swap under way, as it is stored (form 1).</summary>
internal sealed record SwapRecord : IRecord
{
    public int Form { get; init; }

    public required string By { get; init; }

    /// <summary>Of who asked; null: an account.</summary>
    public string? ByKind { get; init; }

    public required DateTimeOffset Began { get; init; }

    public ClockRecord? Saved { get; init; }

    public required string Directory { get; init; }

    public ImmutableArray<string>? Data { get; init; }

    public required long Before { get; init; }

    public required string BeforeIdentity { get; init; }

    public required long Version { get; init; }

    public required string VersionIdentity { get; init; }

    public bool IsNew { get; init; }

    public long WatchMicros { get; init; }

    public ImmutableArray<string>? Dependents { get; init; }

    public bool IsJob { get; init; }

    public bool WasUp { get; init; }

    public required string Step { get; init; }

    public long From { get; init; }

    public DateTimeOffset? ProvenAt { get; init; }

    public string? Why { get; init; }

    public long? FailedRun { get; init; }

    public string? Down { get; init; }

    public bool Stuck { get; init; }

    public long? Found { get; init; }

    public static SwapRecord Of(Swap swap) =>
        new()
        {
            Form = Forms.Swap,
            By = swap.By.Name,
            ByKind = swap.By.Kind == default ? null : Words.Of(swap.By.Kind),
            Began = swap.Began,
            Directory = swap.Directory,
            Data = SituationRecord.Some(swap.Data),
            Before = swap.Before.Number,
            BeforeIdentity = swap.Before.Identity,
            Version = swap.Version.Number,
            VersionIdentity = swap.Version.Identity,
            IsNew = swap.IsNew,
            WatchMicros = Micros.Of(swap.WatchFor),
            Dependents = SituationRecord.Some(swap.Dependents),
            IsJob = swap.IsJob,
            WasUp = swap.WasUp,
            Step = Words.Of(swap.Step),
            From = swap.From,
            ProvenAt = swap.ProvenAt,
            Why = swap.Why,
            FailedRun = swap.FailedRun?.Value,
            Down = swap.Down,
            Stuck = swap.Stuck,
            Found = swap.Found,
        };

    public Swap ToCore() =>
        new()
        {
            By = new(By, ByKind is { } kind ? Words.To<PrincipalKind>(kind) : default),
            Began = Began,
            Directory = Directory,
            Data = Data ?? [],
            Before = new(Before, BeforeIdentity),
            Version = new(Version, VersionIdentity),
            IsNew = IsNew,
            WatchFor = Micros.To(WatchMicros),
            Dependents = Dependents ?? [],
            IsJob = IsJob,
            WasUp = WasUp,
            Step = Words.To<SwapStep>(Step),
            From = new(From),
            ProvenAt = ProvenAt,
            Why = Why,
            FailedRun = FailedRun is { } run ? new(run) : null,
            Down = Down,
            Stuck = Stuck,
            Found = Found,
        };
}
