using System.Text;

namespace CalmSentry.Cli.Formatting;

/// <summary>
/// Aligned columns, written plainly and fast. On a terminal a last column that is too long is folded: in its place where
/// there is room, else below its row; in a pipe a row is a line.
/// </summary>
internal static class Table
{
    /// <param name="marked">Rows that ask for a person; on a terminal they are shown in colour, beside the word that
    /// says why.</param>
    public static void Write(
        string[] heads,
        IReadOnlyList<string[]> rows,
        Func<int, bool>? marked = null,
        TextWriter? to = null
    )
    {
        // A cell is one line, whatever is in it.
        rows = [.. rows.Select(row => row.Select(cell => cell.ReplaceLineEndings(" ")).ToArray())];
        var widths = heads
            .Select((head, column) => rows.Select(row => row[column].Length).Append(head.Length).Max())
            .ToArray();
        var terminal = !Console.IsOutputRedirected;
        var width = Terminal.Width();
        var text = new StringBuilder();
        Line(text, heads, widths, width);
        for (var i = 0; i < rows.Count; i++)
        {
            var mark = terminal && marked?.Invoke(i) == true;
            if (mark)
                text.Append(Terminal.Red);
            Line(text, rows[i], widths, width);
            if (mark)
                text.Insert(text.Length - 1, Terminal.Plain);
        }

        (to ?? Console.Out).Write(text);
    }

    /// <summary>A last column narrower than this is not read well: it goes below its row.</summary>
    private const int Readable = 32;

    private static void Line(StringBuilder text, string[] cells, int[] widths, int width)
    {
        var start = text.Length;
        var indent = widths.Take(cells.Length - 1).Sum(column => column + 2);
        // Where not even the columns before it have room, they follow each other as words do.
        if (indent - 2 > width)
            text.AppendJoin("\n  ", Folding.Lines(string.Join(' ', cells[..^1]), width - 2)).Append(' ');
        else
            for (var i = 0; i < cells.Length - 1; i++)
                text.Append(cells[i].PadRight(widths[i] + 2));
        if (indent + cells[^1].Length > width && indent + Readable > width)
        {
            End(text, start);
            indent = 4;
            text.Append(' ', indent);
        }

        start = text.Length;
        foreach (var line in Folding.Lines(cells[^1], width - indent))
        {
            if (text.Length > start)
            {
                End(text, 0);
                text.Append(' ', indent);
            }

            text.Append(line);
        }

        End(text, 0);
    }

    private static void End(StringBuilder text, int start)
    {
        while (text.Length > start && text[^1] == ' ')
            text.Length--;
        text.Append('\n');
    }
}
