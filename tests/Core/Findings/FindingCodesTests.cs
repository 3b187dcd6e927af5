using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Core.Text;

namespace CalmSentry.Tests.Core.Findings;

/// <summary>Each finding there may be is about a key there is, and is documented.</summary>
public class FindingCodesTests
{
    [Fact]
    public void Each_is_about_a_key_of_a_definition() =>
        Assert.All(
            Enum.GetValues<FindingCode>(),
            code => Assert.NotNull(DefinitionKeys.Find(FindingCodes.KeyOf(code)))
        );

    [Fact]
    public void Each_is_in_the_documents()
    {
        var text = File.ReadAllText(Path.Combine(Sources.Root, "docs", "before-you-wrap.md"));
        Assert.All(
            Enum.GetValues<FindingCode>(),
            code => Assert.Contains($"`{Words.Of(code)}`", text, StringComparison.Ordinal)
        );
    }
}
