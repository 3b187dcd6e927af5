using System.Collections.Immutable;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>The steps that were taken to end a run.</summary>
internal sealed record StepsRecord(int Form, ImmutableArray<StepRecord>? Steps) : IRecord;

/// <summary>What is kept of a run that ended badly (form 2).</summary>
internal sealed record EvidenceRecord : IRecord
{
    public int Form { get; init; }

    public ImmutableArray<string>? LastLines { get; init; }

    /// <summary>Bytes.</summary>
    public long? Memory { get; init; }

    /// <summary>Percent of one processor.</summary>
    public double? Cpu { get; init; }

    public DateTimeOffset? SampledAt { get; init; }

    public string? CoreDump { get; init; }

    public ImmutableArray<string>? Changes { get; init; }

    public long? WellRun { get; init; }

    public static EvidenceRecord Of(FallEvidence evidence) =>
        new()
        {
            Form = Forms.Evidence,
            LastLines = SituationRecord.Some(evidence.LastLines),
            Memory = evidence.Memory,
            Cpu = evidence.Cpu,
            SampledAt = evidence.SampledAt,
            CoreDump = evidence.CoreDump,
            Changes = SituationRecord.Some(evidence.Changes),
            WellRun = evidence.WellRun,
        };

    public FallEvidence ToCore() =>
        new()
        {
            LastLines = LastLines ?? [],
            Memory = Memory,
            Cpu = Cpu,
            SampledAt = SampledAt,
            CoreDump = CoreDump,
            Changes = Changes ?? [],
            WellRun = WellRun,
        };
}

/// <summary>What a run was launched from (form 2).</summary>
internal sealed record OriginRecord(int Form, int Revision, string Boot, ImmutableArray<OriginFileRecord>? Files)
    : IRecord
{
    public static OriginRecord Of(RunOrigin origin) =>
        new(
            Forms.Origin,
            origin.Revision,
            origin.Boot,
            origin.Files.ToRecords(file => new OriginFileRecord(
                Words.Of(file.Role),
                file.Path,
                file.Size,
                file.Written
            ))
        );

    public RunOrigin ToCore() =>
        new(
            Revision,
            Boot,
            (Files ?? []).ToRecords(file => new OriginFile(
                Words.To<OriginRole>(file.Role),
                file.Path,
                file.Size,
                file.Written
            ))
        );
}

internal sealed record OriginFileRecord(string Role, string Path, long? Size, DateTimeOffset? Written);
