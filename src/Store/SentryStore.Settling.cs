using System.Globalization;
using System.Text.Json;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Settling;
using CalmSentry.Store.Records;

namespace CalmSentry.Store;

/// <summary>The latest settling, a fact and one for each of its steps; and what of services was as their files said.</summary>
public sealed partial class SentryStore
{
    private const string SettlementKey = "settlement",
        SettleStepKey = "settlement.step.",
        SettledKey = "settled.";

    /// <summary>Puts one in the place of the latest.</summary>
    public void SetSettlement(Settlement settlement)
    {
        Enqueue("DELETE FROM fact WHERE key GLOB $0", SettleStepKey + "*");
        SetFact(SettlementKey, SettlementJson.Write(settlement));
        for (var i = 0; i < settlement.Steps.Length; i++)
            SetFact(StepOf(i), SettlementJson.Write(settlement.Steps[i]));
    }

    /// <summary>One step of it has come further.</summary>
    public void SetSettleStep(Settlement settlement, int step) =>
        SetFact(StepOf(step), SettlementJson.Write(settlement.Steps[step]));

    /// <summary>It has ended; its steps stay.</summary>
    public void SetSettlementEnd(Settlement settlement) => SetFact(SettlementKey, SettlementJson.Write(settlement));

    /// <returns>Null: nothing was ever settled, or it cannot be read any more.</returns>
    public Settlement? Settlement()
    {
        try
        {
            if (Fact(SettlementKey) is not { Length: > 0 } fact)
                return null;
            var record = SettlementJson.Read(fact);
            var steps = Read(
                "SELECT value FROM fact WHERE key GLOB $0 ORDER BY key",
                row => SettlementJson.Step(row.GetString(0)),
                SettleStepKey + "*"
            );
            return steps.Count == record.Steps ? record.ToCore([.. steps]) : null;
        }
        catch (Exception error) when (error is JsonException or InvalidOperationException or ArgumentException)
        {
            return null;
        }
    }

    /// <summary>A service is as its files say.</summary>
    public void SetSettled(ServiceId service, SettledAs settled) =>
        SetFact(SettledOf(service), SettlementJson.Write(settled));

    /// <summary>Those that were as their files said, and when.</summary>
    public IReadOnlyDictionary<ServiceId, SettledAs> AsFiles() =>
        Read(
                "SELECT key, value FROM fact WHERE key GLOB $0",
                row => (Key: row.GetString(0), Settled: SettlementJson.Settled(row.GetString(1))),
                SettledKey + "*"
            )
            .Where(one => one.Settled is not null)
            .ToDictionary(
                one => new ServiceId(long.Parse(one.Key.AsSpan(SettledKey.Length), CultureInfo.InvariantCulture)),
                one => one.Settled!
            );

    /// <summary>It is of no files any more.</summary>
    public void RemoveSettled(ServiceId service) => Enqueue("DELETE FROM fact WHERE key = $0", SettledOf(service));

    private static string SettledOf(ServiceId service) =>
        SettledKey + service.Number.ToString(CultureInfo.InvariantCulture);

    private static string StepOf(int step) => SettleStepKey + step.ToString("00000", CultureInfo.InvariantCulture);
}
