using System.Text.Json;
using System.Text.RegularExpressions;

namespace CalmSentry.Tests.Front.House;

/// <summary>What the API can do has its place in the console, or docs/console.md says why not.</summary>
public partial class ConsoleRoutesTests
{
    [Fact]
    public void Each_route_is_used_by_a_page_or_it_is_said_why_not()
    {
        var routes = Routes();
        var used = Used();
        var said = Said();
        var missing = routes.Where(route => !IsUsed(route, used) && !said.Contains(route)).ToList();
        var needless = said.Where(route => IsUsed(route, used) || !routes.Contains(route)).ToList();
        Assert.True(
            missing.Count == 0,
            $"no page uses them, and docs/console.md does not say why: {string.Join(", ", missing)}"
        );
        Assert.True(
            needless.Count == 0,
            $"docs/console.md says why they are not there, but they are, or are no routes: {string.Join(", ", needless)}"
        );
    }

    private static bool IsUsed(string route, HashSet<string> used) =>
        used.Contains(route) || used.Contains($"ANY {route.Split(' ')[1]}");

    private static List<string> Routes()
    {
        using var description = JsonDocument.Parse(File.ReadAllText(Path.Combine(Sources.Root, "docs/openapi.json")));
        return
        [
            .. description
                .RootElement.GetProperty("paths")
                .EnumerateObject()
                .SelectMany(path =>
                    path.Value.EnumerateObject().Select(way => $"{way.Name.ToUpperInvariant()} {Plain(path.Name)}")
                ),
        ];
    }

    /// <summary>By the client made of the description, whose calls name method and path; a path alone may be of any method.</summary>
    private static HashSet<string> Used() =>
        [
            .. Directory
                .EnumerateFiles(Path.Combine(Sources.Root, "src/console/src"), "*.ts*", SearchOption.AllDirectories)
                .Where(file => !file.EndsWith(".d.ts", StringComparison.Ordinal))
                .SelectMany(file => Call().Matches(File.ReadAllText(file)))
                .Select(call =>
                    $"{(call.Groups[1].Success ? call.Groups[1].Value : "ANY")} {Plain(call.Groups[2].Value)}"
                ),
        ];

    private static HashSet<string> Said() =>
        [
            .. Reason()
                .Matches(File.ReadAllText(Path.Combine(Sources.Root, "docs/console.md")))
                .Select(one => $"{one.Groups[1].Value} {Plain(one.Groups[2].Value)}"),
        ];

    /// <summary>A path with a blank for each of its parameters, and nothing of a query.</summary>
    private static string Plain(string path) => Parameter().Replace(Blank().Replace(path, "{}"), "$1");

    [GeneratedRegex("""(?:api\.([A-Z]+)\(\s*["`]|["`}])(/api/[^"`?\s]+)""")]
    private static partial Regex Call();

    [GeneratedRegex("""`([A-Z]+) (/api/[^`]+)`""")]
    private static partial Regex Reason();

    [GeneratedRegex("""\$?\{[^}]*\}?""")]
    private static partial Regex Blank();

    /// <summary>What stands behind a word is a query.</summary>
    [GeneratedRegex("""([^/]){}$""")]
    private static partial Regex Parameter();
}
