using System.Globalization;
using System.Text.RegularExpressions;

namespace CalmSentry.Core.Text;

/// <summary>Regular expressions that people write.</summary>
public static class Expressions
{
    /// <summary>What is wrong with a regular expression, where the framework says so by a code.</summary>
    public static string WrongIn(string text)
    {
        const string allowed = "a regular expression";
        try
        {
            _ = new Regex(text, RegexOptions.NonBacktracking);
            return $"{allowed} that is not empty";
        }
        catch (RegexParseException wrong)
        {
            return wrong.Error switch
            {
                RegexParseError.InsufficientClosingParentheses => $"{allowed}: a ) is missing",
                RegexParseError.InsufficientOpeningParentheses => $"{allowed}: a ( is missing before a )",
                RegexParseError.UnterminatedBracket => $"{allowed}: a ] is missing",
                RegexParseError.QuantifierAfterNothing => $"{allowed}: before *, + or ? something is missing",
                RegexParseError.NestedQuantifiersNotParenthesized => $"{allowed}: two of *, + and ? follow each other",
                RegexParseError.UnescapedEndingBackslash => $"{allowed}: after the last \\ something is missing",
                RegexParseError.ReversedCharacterRange => $"{allowed}: a range in [ ] runs backwards",
                _ => string.Create(
                    CultureInfo.InvariantCulture,
                    $"{allowed}: it cannot be read from character {wrong.Offset} on"
                ),
            };
        }
        catch (NotSupportedException)
        {
            return $"{allowed} without look-around and back-references";
        }
    }
}
