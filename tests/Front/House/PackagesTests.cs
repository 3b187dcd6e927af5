using System.Text.RegularExpressions;

namespace CalmSentry.Tests.Front.House;

/// <summary>What a test says that it needs is what the scripts install for tests.</summary>
public partial class PackagesTests
{
    [Fact]
    public void What_a_test_needs_is_installed_for_tests()
    {
        var installed = File.ReadLines(Path.Combine(Sources.Root, "tools", "packages"))
            .Where(line => !line.StartsWith('#'))
            .Select(line => line.Split(' ', StringSplitOptions.RemoveEmptyEntries))
            .Where(part => part.Skip(1).Any(of => of is "build" or "tests"))
            .Select(part => part[0])
            .ToHashSet(StringComparer.Ordinal);
        var needed = Directory
            .EnumerateFiles(Path.Combine(Sources.Root, "tests", "EndToEnd"), "*.cs", SearchOption.AllDirectories)
            .SelectMany(file => Needs().Matches(File.ReadAllText(file)))
            .SelectMany(found => found.Groups[1].Value.Split(','), (_, name) => name.Trim(' ', '"', '\n'))
            .ToHashSet(StringComparer.Ordinal);
        Assert.NotEmpty(needed);
        Assert.Empty(needed.Except(installed));
    }

    [GeneratedRegex(@"(?m)^\s*\[Needs\(([^)]*)\)\]")]
    private static partial Regex Needs();
}
