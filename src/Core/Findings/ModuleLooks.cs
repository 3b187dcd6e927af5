using System.Text.RegularExpressions;

namespace CalmSentry.Core.Findings;

/// <summary>Modules a script asks for at its top level, as far as its text shows it without running it.</summary>
public static partial class ModuleLooks
{
    /// <summary>
    /// Of JavaScript: <c>import … from "x"</c>, <c>import "x"</c>, and <c>require("x")</c> that does not stand inside a
    /// block.
    /// </summary>
    public static IReadOnlyList<string> OfJavaScript(string text) =>
        [
            .. Import()
                .Matches(text)
                .Concat(Require().Matches(text))
                .Select(match => match.Groups["name"].Value)
                .Distinct(),
        ];

    // Each has a bound on what it looks through from one place: a script may be written to keep its reader busy.
    [GeneratedRegex(
        @"^import\b(?:[^;'""]{0,1000}?\bfrom\s*|\s*)(?<quote>['""])(?<name>[^'""]+)\k<quote>",
        RegexOptions.Multiline | RegexOptions.CultureInvariant
    )]
    private static partial Regex Import();

    [GeneratedRegex(
        @"^(?:(?:const|let|var)\s[^;(]{0,300}=\s*)?require\(\s*(?<quote>['""])(?<name>[^'""]+)\k<quote>",
        RegexOptions.Multiline | RegexOptions.CultureInvariant
    )]
    private static partial Regex Require();
}
