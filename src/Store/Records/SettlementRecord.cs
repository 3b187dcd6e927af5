using System.Collections.Immutable;
using System.Text.Json;
using CalmSentry.Core.Settling;
using CalmSentry.Core.Text;

namespace CalmSentry.Store.Records;

/// <summary>A settling, as it is stored (form 1); its steps are stored each for itself.</summary>
internal sealed record SettlementRecord : IRecord
{
    public int Form { get; init; }

    public required int Number { get; init; }

    public required string By { get; init; }

    /// <summary>Where who asked sat.</summary>
    public string? From { get; init; }

    public required DateTimeOffset Began { get; init; }

    public DateTimeOffset? Ended { get; init; }

    public string? Directory { get; init; }

    public string? Head { get; init; }

    public int? Back { get; init; }

    public int Steps { get; init; }

    public ImmutableArray<string>? Settled { get; init; }

    public string? Next { get; init; }

    public static SettlementRecord Of(Settlement settlement) =>
        new()
        {
            Form = Forms.Settlement,
            Number = settlement.Number,
            By = settlement.By.Name,
            From = settlement.By.From,
            Began = settlement.Began,
            Ended = settlement.Ended,
            Directory = settlement.Directory,
            Head = settlement.Head,
            Back = settlement.Back,
            Steps = settlement.Steps.Length,
            Settled = SituationRecord.Some(settlement.Settled),
            Next = settlement.Next,
        };

    public Settlement ToCore(ImmutableArray<SettleStep> steps) =>
        new()
        {
            Number = Number,
            By = new(By, From: From),
            Began = Began,
            Ended = Ended,
            Directory = Directory,
            Head = Head,
            Back = Back,
            Steps = steps,
            Settled = Settled ?? [],
            Next = Next,
        };
}

/// <summary>One step of a settling, as it is stored (form 1).</summary>
internal sealed record SettleStepRecord : IRecord
{
    public int Form { get; init; }

    public required string Deed { get; init; }

    public required string Name { get; init; }

    public string? To { get; init; }

    public string? Document { get; init; }

    public string? Source { get; init; }

    public bool Write { get; init; }

    public int Seen { get; init; }

    public string? Before { get; init; }

    public long LastRun { get; init; }

    public bool Ran { get; init; }

    public string? State { get; init; }

    public string? Said { get; init; }

    public static SettleStepRecord Of(SettleStep step) =>
        new()
        {
            Form = Forms.Settlement,
            Deed = Words.Of(step.Deed),
            Name = step.Name,
            To = step.To,
            Document = step.Document,
            Source = step.Source,
            Write = step.Write,
            Seen = step.Seen,
            Before = step.Before,
            LastRun = step.LastRun.Value,
            Ran = step.Ran,
            State = step.State == default ? null : Words.Of(step.State),
            Said = step.Said,
        };

    public SettleStep ToCore() =>
        new(Words.To<SettleDeed>(Deed), Name, To)
        {
            Document = Document,
            Source = Source,
            Write = Write,
            Seen = Seen,
            Before = Before,
            LastRun = new(LastRun),
            Ran = Ran,
            State = State is null ? default : Words.To<SettleState>(State),
            Said = Said,
        };
}

/// <summary>What a service was when it was as its files said (form 1).</summary>
internal sealed record SettledRecord : IRecord
{
    public int Form { get; init; }

    public required int Revision { get; init; }

    public required DateTimeOffset At { get; init; }

    public string? Directory { get; init; }

    public string? Head { get; init; }
}

internal static class SettlementJson
{
    public static string Write(Settlement settlement) =>
        Forms.Write(SettlementRecord.Of(settlement), RecordJson.Default.SettlementRecord);

    public static string Write(SettleStep step) =>
        Forms.Write(SettleStepRecord.Of(step), RecordJson.Default.SettleStepRecord);

    public static string Write(SettledAs settled) =>
        Forms.Write(
            new SettledRecord
            {
                Form = Forms.Settlement,
                Revision = settled.Revision,
                At = settled.At,
                Directory = settled.Directory,
                Head = settled.Head,
            },
            RecordJson.Default.SettledRecord
        );

    public static SettlementRecord Read(string json) =>
        Forms.Read(json, RecordJson.Default.SettlementRecord, Forms.Settlement, node => node);

    public static SettleStep Step(string json) =>
        Forms.Read(json, RecordJson.Default.SettleStepRecord, Forms.Settlement, node => node).ToCore();

    public static SettledAs? Settled(string json)
    {
        try
        {
            var record = Forms.Read(json, RecordJson.Default.SettledRecord, Forms.Settlement, node => node);
            return new(record.Revision, record.At, record.Directory, record.Head);
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException or ArgumentException)
        {
            return null; // damaged: it counts as one that came from no files
        }
    }
}
