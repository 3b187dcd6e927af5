using System.Text.Json;
using System.Text.RegularExpressions;
using CalmSentry.Contract.Api;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Cli.Wire;

/// <summary>Whether a file has a definition in it or the sentry's settings: its keys at the top tell.</summary>
internal static partial class SettingsText
{
    /// <summary>Keys that only a definition has, or what definitions are made from.</summary>
    private static readonly string[] OfDefinitions = ["format", "name", "program", "from", "blanks"];

    /// <exception cref="Failure">It is neither, or both.</exception>
    public static bool Is(Body file)
    {
        if (TopKeys(file.Text) is not { } keys)
            return false; // whoever reads it as a definition says what is wrong, and where
        var defines = keys.Any(OfDefinitions.Contains);
        var known = DefinitionKeys.All.Select(key => key.Name.Split('.')[0]);
        var sets = keys.Intersect(SettingsKeys.All).Except(known).Any();
        if (defines && !sets)
            return false;
        if (!defines && keys.Count > 0 && keys.All(SettingsKeys.All.Contains))
            return true;
        throw new Failure(
            Exit.Usage,
            defines
                ? $"{file.File} has keys of a definition and of the sentry's settings: {string.Join(", ", keys)}."
                : $"{file.File} is not known as a definition, which has name and program at its top, nor as the sentry's settings: "
                    + (
                        keys.Count == 0
                            ? "no keys are at its top."
                            : $"at its top are {string.Join(", ", keys.Take(20))}."
                    ),
            $"calm check --settings {CommandLine.Quoted(file.File!)} reads it as the settings; a definition needs name: and program:."
        );
    }

    /// <summary>Keys at the top of YAML in blocks, or of a JSON object; none: it is neither; null: it is JSON with a mistake in it.</summary>
    private static List<string>? TopKeys(string text)
    {
        if (!text.TrimStart().StartsWith('{'))
            return [.. Key().Matches(text).Select(key => key.Groups["key"].Value).Distinct()];
        try
        {
            using var read = JsonDocument.Parse(text);
            return [.. read.RootElement.EnumerateObject().Select(one => one.Name).Distinct()];
        }
        catch (JsonException)
        {
            return null;
        }
    }

    [GeneratedRegex(
        """^(?:"(?<key>[^"\n]{1,100})"|'(?<key>[^'\n]{1,100})'|(?<key>[A-Za-z][A-Za-z0-9_-]{0,100}))[ \t]*:(?=\s|$)""",
        RegexOptions.Multiline | RegexOptions.ExplicitCapture
    )]
    private static partial Regex Key();
}
