using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;
using CsCheck;

namespace CalmSentry.Tests.Core.Lifecycle;

/// <summary>Needs between services: orders are legal, circles are found and are circles.</summary>
public class NeedGraphTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static string NameOf(int i) => $"berth-{i}";

    private static Definition Make(int i, IEnumerable<int> needs) =>
        new()
        {
            Name = NameOf(i),
            Title = NameOf(i),
            Identity = new("skerry"),
            Program = new("/srv/skerry/berth", [], null, ImmutableSortedDictionary<string, string>.Empty),
            Begin = new()
            {
                At = BeginAt.Boot,
                Needs = [.. needs.Distinct().Select(need => new ServiceNeed(NameOf(need), IfLost.Leave))],
                Proof = new TcpProof("127.0.0.1:7411"),
            },
        };

    /// <summary>Needs point to lower numbers only, so there is no circle.</summary>
    private static Gen<Definition[]> Legal(int most) =>
        from count in Gen.Int[1, most]
        from seeds in Gen.Int[0, int.MaxValue].Array[3].Array[count]
        from fewer in Gen.Int[0, 3].Array[count]
        select Enumerable
            .Range(0, count)
            .Select(i => Make(i, i == 0 ? [] : seeds[i].Take(fewer[i]).Select(seed => seed % i)))
            .ToArray();

    /// <summary>
    /// 300 services, whatever the order in which things happen: none is launched before all it needs are proven, and
    /// all come up.
    /// </summary>
    [Fact]
    public void All_begin_in_a_legal_order() =>
        Gen.Select(Legal(300), Gen.Int[0, int.MaxValue])
            .Sample(
                (definitions, seed) =>
                {
                    var random = new Random(seed);
                    var lives = definitions.ToDictionary(
                        one => one.Name,
                        one => (Definition: one, Situation: Situation.New(Start)),
                        StringComparer.Ordinal
                    );
                    var open = new List<(string Name, Func<Happening> What)>();
                    foreach (var one in definitions)
                        open.Add((one.Name, () => new MachineBegan()));
                    var falls = 5;
                    while (open.Count > 0)
                    {
                        var at = random.Next(open.Count);
                        var (name, what) = open[at];
                        (open[at], open[^1]) = (open[^1], open[at]);
                        open.RemoveAt(open.Count - 1);
                        var (definition, before) = lives[name];
                        var happening = what();
                        var turn = ServiceLife.Step(definition, before, happening, Start);
                        if (happening is RunEnded)
                            open.Add((name, () => new StartAsked(new("anna"))));
                        lives[name] = (definition, turn.After);
                        foreach (var deed in turn.Deeds)
                            Carry(definition, deed);
                        if (before.Phase != Phase.Running && turn.After.Phase == Phase.Running)
                            foreach (
                                var dependent in definitions.Where(other => other.Begin.NeededServices.Contains(name))
                            )
                                open.Add((dependent.Name, () => Seen(dependent)));
                    }

                    Assert.DoesNotContain(lives.Values, life => life.Situation.Phase != Phase.Running);

                    NeedsSeen Seen(Definition of) =>
                        new([
                            .. of.Begin.NeededServices.Select(needed =>
                                lives[needed].Situation.Phase == Phase.Running ? null : "it is not running"
                            ),
                        ]);

                    void Carry(Definition definition, Deed deed)
                    {
                        switch (deed)
                        {
                            case LookAtNeeds:
                                open.Add((definition.Name, () => Seen(definition)));
                                break;
                            case AskTurn:
                                open.Add(
                                    (
                                        definition.Name,
                                        () => new TurnCame([.. definition.Begin.Needs.Select(_ => (string?)null)])
                                    )
                                );
                                break;
                            case Launch launch:
                                Assert.All(
                                    definition.Begin.NeededServices,
                                    needed => Assert.Equal(Phase.Running, lives[needed].Situation.Phase)
                                );
                                open.Add((definition.Name, () => new Launched(launch.Run, 4711)));
                                break;
                            case LookForProof look when falls-- > 0:
                                open.Add((definition.Name, () => new RunEnded(look.Run, new(OutcomeKind.Exited, 1))));
                                break;
                            case LookForProof look:
                                open.Add((definition.Name, () => new Proven(look.Run, "it answered")));
                                break;
                        }
                    }
                },
                iter: 60
            );

    [Fact]
    public void The_order_has_each_after_all_it_needs() =>
        Legal(60)
            .Sample(definitions =>
            {
                var order = new NeedGraph(definitions).BeginOrder.ToList();
                Assert.Equal(definitions.Length, order.Count);
                foreach (var one in definitions)
                    Assert.All(
                        one.Begin.NeededServices,
                        needed => Assert.True(order.IndexOf(needed) < order.IndexOf(one.Name))
                    );
            });

    /// <summary>A circle is told exactly when there is one, and what is told is one.</summary>
    [Fact]
    public void A_circle_is_found_when_there_is_one() =>
        Gen.Select(Legal(12), Gen.Int[0, 11], Gen.Int[0, 11].Array[0, 2])
            .Sample(
                (definitions, which, more) =>
                {
                    var (i, others) = (
                        which % definitions.Length,
                        definitions.Where((_, at) => at != which % definitions.Length).ToList()
                    );
                    var added = Make(
                        i,
                        definitions[i]
                            .Begin.NeededServices.Select(name =>
                                int.Parse(name[6..], System.Globalization.CultureInfo.InvariantCulture)
                            )
                            .Concat(more.Select(one => one % definitions.Length))
                    );
                    var all = others
                        .Append(added)
                        .ToDictionary(
                            one => one.Name,
                            one => one.Begin.NeededServices.ToList(),
                            StringComparer.Ordinal
                        );
                    var left = all.Keys.ToHashSet(StringComparer.Ordinal);
                    while (left.RemoveWhere(name => !all[name].Exists(left.Contains)) > 0)
                    {
                        // Whoever needs nobody that is left may begin.
                    }

                    var circle = NeedGraph.Circle(added, others);
                    Assert.Equal(left.Count > 0, circle is not null);
                    if (circle is null)
                        return;
                    Assert.Equal((added.Name, added.Name), (circle[0], circle[^1]));
                    for (var at = 0; at + 1 < circle.Count; at++)
                        Assert.Contains(circle[at + 1], all[circle[at]]);
                }
            );
}
