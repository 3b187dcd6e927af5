using System.Collections.Immutable;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace CalmSentry.Core.Telling;

/// <summary>
/// A webhook's body in somebody's own form, for receivers that read no CloudEvents: a text in which names in braces are filled in. One
/// that begins as JSON does is JSON, and stays so whatever is filled in.
/// </summary>
public static partial class BodyTemplate
{
    public static readonly ImmutableArray<string> Fields =
    [
        "subject",
        "lead",
        "text",
        "kind",
        "topic",
        "urgency",
        "host",
        "service",
        "alert",
        "time",
        "id",
    ];

    public static readonly string Allowed =
        $"text with any of {string.Join(", ", Fields.Select(field => $"{{{field}}}"))}; one that begins with {{ or [ is JSON with all in its place";

    /// <summary>It begins as JSON does, and not with a field.</summary>
    public static bool IsJson(string template) =>
        template.TrimStart() is ['{' or '[', ..] text && Field().Match(text) is not { Success: true, Index: 0 };

    /// <summary>Only fields there are, and JSON where it begins so.</summary>
    public static bool IsValid(string template)
    {
        if (
            template.Trim().Length == 0
            || Field().Matches(template).Any(field => !Fields.Contains(field.Groups["name"].Value))
        )
            return false;
        if (!IsJson(template))
            return true;
        try
        {
            // As a number it fits where a text is meant, and where a number is.
            using var read = JsonDocument.Parse(Fill(template, _ => "1"));
            return true;
        }
        catch (JsonException)
        {
            return false;
        }
    }

    /// <param name="value">Of a field.</param>
    public static string Fill(string template, Func<string, string> value)
    {
        var json = IsJson(template);
        return Field()
            .Replace(
                template,
                field =>
                    value(field.Groups["name"].Value) is var text && json
                        ? JsonEncodedText.Encode(text, JavaScriptEncoder.UnsafeRelaxedJsonEscaping).ToString()
                        : text
            );
    }

    [GeneratedRegex(@"\{(?<name>[a-z][a-z-]*)\}")]
    private static partial Regex Field();
}
