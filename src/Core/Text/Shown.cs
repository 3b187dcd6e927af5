using System.Globalization;

namespace CalmSentry.Core.Text;

/// <summary>
/// Text of somebody else's (a program's words, a file's name, a process's title) where people read it: what a terminal, a mail reader or
/// a spreadsheet would obey, what begins a line, and what turns the direction of writing is shown instead. The one quoting for all of it;
/// fields of JSON are as they are.
/// </summary>
public static class Shown
{
    /// <summary>As part of one line.</summary>
    public static string Line(string text) =>
        text.Any(IsOdd) ? string.Concat(text.Select(c => IsOdd(c) ? '·' : c)) : text;

    /// <summary>The same, where there may be none.</summary>
    public static string? LineOf(string? text) => text is null ? null : Line(text);

    /// <summary>
    /// As a field that a spreadsheet takes for text: one that begins like a formula is set behind an apostrophe.
    /// </summary>
    public static string Cell(string text) =>
        Line(text) is var line
        && (line.Length > 0 && "=+-@".Contains(line[0], StringComparison.Ordinal) || text.StartsWith('\t'))
            ? $"'{line}"
            : line;

    /// <summary>Codes that turn the direction of writing, or cannot be seen, could show another text than there is.</summary>
    public static bool IsOdd(char c) =>
        char.IsControl(c)
        || (
            c > 127
            && char.GetUnicodeCategory(c)
                is UnicodeCategory.Format
                    or UnicodeCategory.LineSeparator
                    or UnicodeCategory.ParagraphSeparator
        );
}
