using System.Reflection;
using System.Text.Json;
using System.Xml.Linq;
using Xunit.Runner.InProc.SystemConsole;

namespace CalmSentry.Tests.EndToEnd.Queue;

/// <summary>A class of tests and how many results each of its methods must have.</summary>
/// <param name="Name">Its full name.</param>
/// <param name="Cases">Methods, with the number of their cases that can be told before they run.</param>
internal sealed record TestClass(string Name, IReadOnlyDictionary<string, int> Cases);

/// <summary>How one result came out.</summary>
/// <param name="Test">Its name as shown.</param>
/// <param name="Method">The method it belongs to.</param>
/// <param name="Seconds">How long it took.</param>
/// <param name="Outcome"><c>Pass</c>, <c>Fail</c>, <c>Skip</c> or <c>NotRun</c>.</param>
/// <param name="Message">Why it failed or was skipped; else empty.</param>
internal sealed record TestResult(string Test, string Method, double Seconds, string Outcome, string Message);

/// <summary>What the assembly lists, and what the reports of its runs say, by the runner's own formats.</summary>
internal static class Listing
{
    /// <summary>A theory's cases are told one by one, in the list as in the reports.</summary>
    public static readonly string[] Discovery = ["-noColor", "-parallel", "none", "-preEnumerateTheories"];

    public static async Task<IReadOnlyList<TestClass>> Classes()
    {
        var listed = new StringWriter();
        using (var runner = new ConsoleRunner(["-list", "full/json", .. Discovery], Assembly.GetExecutingAssembly()))
            await runner.EntryPoint(TextReader.Null, listed);
        using var cases = JsonDocument.Parse(listed.ToString());
        return
        [
            .. cases
                .RootElement.EnumerateArray()
                .Select(one => (Class: Text(one, "Class"), Method: Text(one, "Method")))
                .GroupBy(one => one.Class)
                .Select(group => new TestClass(
                    group.Key,
                    group.CountBy(one => one.Method).ToDictionary(StringComparer.Ordinal)
                )),
        ];
    }

    private static string Text(JsonElement element, string name) => element.GetProperty(name).GetString()!;

    /// <exception cref="System.Xml.XmlException">The report was cut off.</exception>
    public static IReadOnlyList<TestResult> Results(string report) =>
        [
            .. XDocument
                .Load(report)
                .Descendants("test")
                .Select(test => new TestResult(
                    (string)test.Attribute("name")!,
                    (string)test.Attribute("method")!,
                    (double?)test.Attribute("time") ?? 0,
                    (string)test.Attribute("result")!,
                    $"{(string?)test.Descendants("message").FirstOrDefault()}{(string?)test.Element("reason")}"
                        + $"\n{(string?)test.Descendants("stack-trace").FirstOrDefault()}"
                )),
        ];

    /// <summary>Where the results of a class are not those that are listed for it, as a clause each.</summary>
    public static IEnumerable<string> Differences(TestClass listed, IReadOnlyList<TestResult> results)
    {
        var had = results.CountBy(one => one.Method).ToDictionary(StringComparer.Ordinal);
        foreach (var (method, cases) in listed.Cases)
            if (had.GetValueOrDefault(method) < cases)
                yield return $"{method} has {had.GetValueOrDefault(method)} results of {cases}";
        foreach (var method in had.Keys.Except(listed.Cases.Keys))
            yield return $"{method} is not listed";
    }
}
