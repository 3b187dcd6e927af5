using System.Text.RegularExpressions;

namespace CalmSentry.Tests.Front.House;

/// <summary>
/// A page of the console looks the same whichever page was open before it: the looks of a page come with that page, so what another uses of
/// them is not there yet. What several have is of <c>app</c>, or of the list, which is always there.
/// </summary>
public partial class ConsoleLooksTests
{
    private static readonly string[] Shared = ["app", "services"];

    [Fact]
    public void No_page_uses_the_looks_of_another()
    {
        var root = Path.Combine(Sources.Root, "src/console/src");
        var parts = Directory.EnumerateFiles(root, "*.tsx", SearchOption.AllDirectories).ToList();
        var wrong =
            from looks in Directory.EnumerateFiles(root, "*.css", SearchOption.AllDirectories)
            where !Shared.Contains(FolderOf(looks))
            from name in Rule().Matches(File.ReadAllText(looks)).Select(rule => rule.Groups[1].Value).Distinct()
            from part in parts
            where FolderOf(part) != FolderOf(looks)
            let text = File.ReadAllText(part)
            where
                !text.Contains(Path.GetFileName(looks), StringComparison.Ordinal)
                && Classes().Matches(text).Any(some => some.Groups[1].Value.Split(' ').Contains(name))
            select $"{Path.GetRelativePath(root, part)} uses .{name} of {Path.GetRelativePath(root, looks)}";
        Assert.Empty(wrong);
    }

    private static string FolderOf(string file) => Path.GetFileName(Path.GetDirectoryName(file)!);

    /// <summary>What a rule is of: the first class of a selector.</summary>
    [GeneratedRegex(@"^\s*\.([a-z][\w-]*)[^{}]*[{,]\s*$", RegexOptions.Multiline)]
    private static partial Regex Rule();

    /// <summary>Classes, where they are given as text.</summary>
    [GeneratedRegex("""className=\{?["`]([^"`]*)["`]""")]
    private static partial Regex Classes();
}
