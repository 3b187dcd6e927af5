using CalmSentry.Server.Doors;
using CsCheck;

namespace CalmSentry.Tests.Front.Doors;

/// <summary>
/// Laws of who gets in: no account holds more than its share, others hold no more than there is in all, root is never
/// kept out by them.
/// </summary>
public class CrowdTests
{
    private const int Most = 100;

    [Fact]
    public void However_accounts_come_and_go_the_bounds_hold() =>
        Gen.Select(Gen.UInt[0, 6], Gen.Bool)
            .Array[0, 2000]
            .Sample(steps =>
            {
                var crowd = new Crowd(Most);
                var held = new Dictionary<uint, int>();
                foreach (var (uid, comes) in steps)
                {
                    var mine = held.GetValueOrDefault(uid);
                    var others = held.Where(one => one.Key != 0).Sum(one => one.Value);
                    if (comes)
                    {
                        var enters = crowd.Enter(uid);
                        if (uid != 0 && Environment.UserName == "root")
                            Assert.Equal(mine < Crowd.MostOfOne && others < Most, enters);
                        if (uid == 0 && mine < 400)
                            Assert.True(enters);
                        if (enters)
                            held[uid] = mine + 1;
                    }
                    else if (mine > 0)
                    {
                        crowd.Leave(uid);
                        held[uid] = mine - 1;
                    }
                }
            });

    [Fact]
    public void A_flood_gets_its_burst_and_no_more_and_nobody_else_pays_for_it()
    {
        var pace = new Pace();
        var heard = Enumerable.Range(0, 5000).Count(_ => pace.Take("flood", DoorKind.Say));
        Assert.InRange(heard, Pace.Of(DoorKind.Say) * 10, Pace.Of(DoorKind.Say) * 10 * 3);
        Assert.True(pace.Take("another", DoorKind.Say));
    }
}
