using CsCheck;

namespace CalmSentry.Tests.Core.Plans;

/// <summary>
/// Plans keep their laws whatever is lost: the server is killed between the record of a step and its deeds, in the middle
/// of them, or after; services take their time, fall, are started by somebody else, and are removed.
/// </summary>
public class PlanTests
{
    /// <summary>The laws are asserted by the machine that each lives on.</summary>
    [Fact]
    public void Every_plan_keeps_order_and_comes_to_its_end_whatever_is_lost() =>
        AnyPlan.Lives.Sample(plan => Assert.All(plan.Stops, stop => Assert.NotNull(stop.DownAt)), iter: 20_000);
}
