using CalmSentry.Core.Definitions;
using CalmSentry.Core.Text;
using CsCheck;

namespace CalmSentry.Tests.Core.Definitions;

/// <summary>Names as people order and write them.</summary>
public class NamesTests
{
    private static readonly Gen<string> Names = Gen.String[Gen.Char["abt-0129"], 0, 8];

    private static readonly string[] InOrder = ["till-1", "till-2", "till-02", "till-10", "till-10a", "tills"];

    [Fact]
    public void Numbers_in_names_count_by_their_value() =>
        Assert.Equal(InOrder, InOrder.Reverse().Order(NaturalOrder.Names));

    /// <summary>An order: total, the same both ways round, and none but the same name is equal.</summary>
    [Fact]
    public void It_is_an_order() =>
        Gen.Select(Names, Names, Names)
            .Sample(
                (a, b, c) =>
                {
                    var order = NaturalOrder.Names;
                    Assert.Equal(Math.Sign(order.Compare(a, b)), -Math.Sign(order.Compare(b, a)));
                    Assert.Equal(order.Compare(a, b) == 0, a == b);
                    if (order.Compare(a, b) <= 0 && order.Compare(b, c) <= 0)
                        Assert.True(order.Compare(a, c) <= 0);
                }
            );

    [Theory]
    [InlineData("TERM")]
    [InlineData("SIGTERM")]
    [InlineData("sigterm")]
    [InlineData("term")]
    public void A_signal_is_known_by_any_of_its_names(string written)
    {
        var (definition, errors) = DefinitionReader.Read(
            new MapNode([
                new("name", new ScalarNode("till")),
                new("program", new MapNode([new("path", new ScalarNode("/srv/skerry/till"))])),
                new("recover", new MapNode([new("codes", new MapNode([new(written, new ScalarNode("hold"))]))])),
                new("wind-down", new ListNode([new MapNode([new("signal", new ScalarNode(written))])])),
            ])
        );
        Assert.Empty(errors);
        Assert.Equal("TERM", Assert.IsType<SignalStep>(Assert.Single(definition!.WindDown)).Signal);
        Assert.Equal(CodeFollow.Hold, definition.Recover.Codes["TERM"]);
    }

    [Fact]
    public void One_signal_by_two_names_is_a_mistake()
    {
        var (_, errors) = DefinitionReader.Read(
            new MapNode([
                new("name", new ScalarNode("till")),
                new("program", new MapNode([new("path", new ScalarNode("/srv/skerry/till"))])),
                new(
                    "recover",
                    new MapNode([
                        new(
                            "codes",
                            new MapNode([new("SEGV", new ScalarNode("hold")), new("SIGSEGV", new ScalarNode("again"))])
                        ),
                    ])
                ),
            ])
        );
        Assert.Equal("recover.codes.SIGSEGV", Assert.Single(errors).Key);
    }
}
