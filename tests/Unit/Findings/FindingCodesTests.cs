using System.Text.RegularExpressions;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Findings;
using CalmSentry.Tests.Unit.House;

namespace CalmSentry.Tests.Unit.Findings;

/// <summary>The list of findings is closed: what a check may say is listed, documented, and about a key there is.</summary>
public partial class FindingCodesTests
{
    [Fact]
    public void Each_is_about_a_key_of_a_definition() =>
        Assert.All(FindingCodes.All, code => Assert.NotNull(DefinitionKeys.Find(FindingCodes.KeyOf(code))));

    [Fact]
    public void Each_is_in_the_documents()
    {
        var text = File.ReadAllText(Path.Combine(Sources.Root, "docs", "before-you-wrap.md"));
        var others =
            File.ReadAllText(Path.Combine(Sources.Root, "docs", "order-and-needs.md"))
            + File.ReadAllText(Path.Combine(Sources.Root, "docs", "stopping.md"));
        Assert.Empty(FindingCodes.All.Where(code => !(text + others).Contains($"`{code}`", StringComparison.Ordinal)));
    }

    [Fact]
    public void What_the_checks_say_is_in_the_list()
    {
        var said = Sources
            .Of("Server/Checks")
            .SelectMany(text => Said().Matches(text).Select(match => match.Groups["code"].Value))
            .Distinct()
            .ToList();
        Assert.NotEmpty(said);
        Assert.Empty(said.Except(FindingCodes.All));
    }

    [GeneratedRegex("new(?: Finding)?\\(\\s*\"(?<code>[a-z]+(-[a-z]+)+)\",\\s*Severity")]
    private static partial Regex Said();
}
