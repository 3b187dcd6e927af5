using CalmSentry.Engine.Definitions;

namespace CalmSentry.Tests.Engine.Definitions;

public class YamlBoundTests
{
    /// <summary>Nine thousand aliases of one text of 32 KB, in a file of 68.</summary>
    [Fact]
    public void What_aliases_stand_for_is_counted_in_characters()
    {
        var text = $"a: &a '{new string('x', 32_000)}'\nb: [{string.Join(", ", Enumerable.Repeat("*a", 9000))}]\n";
        var (node, error) = YamlNodes.Read(text, out _);
        Assert.Null(node);
        Assert.Contains($"{NodeBounds.MostCharacters} characters", error!.Found, StringComparison.Ordinal);
        Assert.Null(YamlNodes.Read("a: &a 'text'\nb: [*a, *a]\n", out var characters).Error);
        Assert.Equal("a".Length + "b".Length + (3 * "text".Length), characters);
    }
}
