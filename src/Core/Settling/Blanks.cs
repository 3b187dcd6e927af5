using System.Text;
using CalmSentry.Core.Definitions;

namespace CalmSentry.Core.Settling;

/// <summary>A named value that a base leaves open.</summary>
/// <param name="Is">The word of its kind.</param>
/// <param name="Default">What it is where nobody says; null: it must be said.</param>
public sealed record Blank(string Name, string Is, string? Default, Place? Place);

/// <summary>What a value is, and who said so.</summary>
/// <param name="From">The file.</param>
public sealed record Fill(string Text, string From, Place? Place = null);

/// <summary>Texts with blanks: <c>{{port}}</c> stands for the value of port, <c>{{{{</c> for two braces.</summary>
public static class Blanks
{
    /// <summary>Characters of one text, filled or not.</summary>
    public const int LongestText = 32_768;

    private const string Opens = "{{",
        Closes = "}}";

    /// <summary>Kinds of blanks, and what each takes.</summary>
    private static readonly Dictionary<string, (string Allowed, Func<string, bool> Takes)> Kinds = new(
        StringComparer.Ordinal
    )
    {
        ["text"] = ("a text", _ => true),
        ["number"] = Of(Forms.Number(0, 1e15)),
        ["port"] = Of(Forms.Whole(1, 65535)),
        ["path"] = Of(Forms.Path),
        ["length"] = Of(Forms.Length),
        ["amount"] = Of(Forms.Size),
        ["account"] = (
            "an account's name",
            text => text.Length > 0 && !text.Any(c => char.IsWhiteSpace(c) || char.IsControl(c))
        ),
    };

    public static string AllKinds => string.Join(" | ", Kinds.Keys);

    public static bool IsKind(string word) => Kinds.ContainsKey(word);

    private static (string, Func<string, bool>) Of<T>(Form<T> form) => (form.Allowed, text => form.Read(text, out _));

    /// <returns>Null: it takes that value; else what is allowed.</returns>
    public static string? NotTaken(this Blank blank, string text) =>
        Kinds[blank.Is].Takes(text) ? null : Kinds[blank.Is].Allowed;

    public static bool HasAny(string text) => text.Contains(Opens, StringComparison.Ordinal);

    /// <summary>The same text where blanks are filled.</summary>
    public static string Written(string plain) => plain.Replace(Opens, Opens + Opens, StringComparison.Ordinal);

    /// <param name="value">Of a blank; null: there is none of that name.</param>
    /// <param name="wrong">Hears what is not one: its text, and what is allowed.</param>
    /// <returns>As it stands where it would be too long: what is filled may be filled with blanks itself.</returns>
    public static string Filled(string text, Func<string, string?> value, Action<string, string> wrong)
    {
        if (!HasAny(text))
            return text;
        var filled = new StringBuilder();
        for (var at = 0; ; )
        {
            var begins = text.IndexOf(Opens, at, StringComparison.Ordinal);
            if (begins < 0)
                return filled.Append(text, at, text.Length - at).ToString();
            filled.Append(text, at, begins - at);
            if (string.CompareOrdinal(text, begins, Opens + Opens, 0, 4) == 0)
            {
                filled.Append(Opens);
                at = begins + 4;
                continue;
            }

            var ends = text.IndexOf(Closes, begins + 2, StringComparison.Ordinal);
            if (ends < 0)
            {
                wrong(text[begins..], "{{NAME}}, closed by two braces; {{{{ for two braces as they are");
                return text;
            }

            var name = text[(begins + 2)..ends].Trim();
            if (value(name) is { } found)
            {
                if (filled.Length + found.Length > LongestText)
                {
                    wrong(text, $"at most {LongestText} characters once its blanks are filled");
                    return text;
                }

                filled.Append(found);
            }
            else
                wrong(text[begins..(ends + 2)], "the name of a blank; {{{{ for two braces as they are");
            at = ends + 2;
        }
    }
}
