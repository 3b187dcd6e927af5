using System.Globalization;
using System.Text.Json;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Plans;
using CalmSentry.Store.Records;

namespace CalmSentry.Store;

/// <summary>Plans under way. They are few and short-lived: facts of this machine, one a plan.</summary>
public sealed partial class SentryStore
{
    private const string PlanKey = "plan.";

    /// <param name="frame">The reading of both clocks by which its moments are told.</param>
    public void SetPlan(long id, Plan plan, ClockStamp frame) => SetFact(KeyOf(id), PlanJson.Write(plan, frame));

    public void RemovePlan(long id) => Enqueue("DELETE FROM fact WHERE key = $0", KeyOf(id));

    /// <summary>All that were under way; one that cannot be read has no plan.</summary>
    public IReadOnlyList<(long Id, Plan? Plan, ClockStamp? Saved)> Plans() =>
        Read(
            "SELECT key, value FROM fact WHERE key GLOB 'plan.*'",
            row =>
            {
                var id = long.Parse(row.GetString(0).AsSpan(PlanKey.Length), CultureInfo.InvariantCulture);
                try
                {
                    var (plan, saved) = PlanJson.Read(row.GetString(1));
                    return (id, (Plan?)plan, saved);
                }
                catch (Exception error) when (error is JsonException or InvalidOperationException or ArgumentException)
                {
                    return (id, null, null);
                }
            }
        );

    private static string KeyOf(long id) => PlanKey + id.ToString(CultureInfo.InvariantCulture);
}
