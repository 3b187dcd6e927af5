using CalmSentry.Store.Records;
using CalmSentry.Tests.Core.Plans;
using CsCheck;

namespace CalmSentry.Tests.Engine.Store;

public class PlanRecordTests
{
    private static readonly DateTimeOffset Saved = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    [Fact]
    public void Read_back_from_its_record_it_is_the_same_plan() =>
        AnyPlan.Lives.Sample(
            plan => Assert.Equivalent(plan, PlanJson.Read(PlanJson.Write(plan, new(Saved, 7))).Plan),
            iter: 2_000
        );
}
