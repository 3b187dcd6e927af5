using System.Text.RegularExpressions;

namespace CalmSentry.Tests.Front.House;

/// <summary>The page of laws names tests that exist.</summary>
public partial class LawsPageTests
{
    [Fact]
    public void Every_test_that_holds_a_law_exists()
    {
        var page = File.ReadAllText(Path.Combine(Sources.Root, "docs", "inside", "laws.md"));
        var named = Named()
            .Matches(page)
            .Select(one => (Class: one.Groups[1].Value, Method: one.Groups[2].Value))
            .ToList();
        Assert.True(named.Count > 50);
        // Rooms may have classes of the same name.
        var classes = Directory
            .EnumerateFiles(Path.Combine(Sources.Root, "tests"), "*Tests.cs", SearchOption.AllDirectories)
            .ToLookup(file => Path.GetFileNameWithoutExtension(file), File.ReadAllText, StringComparer.Ordinal);
        Assert.All(
            named,
            one =>
                Assert.True(
                    classes[one.Class]
                        .Any(text =>
                            one.Method.Length == 0 || text.Contains($" {one.Method}(", StringComparison.Ordinal)
                        ),
                    $"docs/inside/laws.md names {one.Class}.{one.Method}, which does not exist"
                )
        );
    }

    [GeneratedRegex(@"`(\w+Tests)(?:\.(\w+))?`")]
    private static partial Regex Named();
}
