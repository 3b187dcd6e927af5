using System.Text;

namespace CalmSentry.Cli.Words;

/// <summary>
/// Aligned columns, written plainly and fast. On a terminal the last column is cut to its width; in a pipe nothing is.
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
        var width = terminal && Console.WindowWidth > 0 ? Console.WindowWidth : int.MaxValue;
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

    private static void Line(StringBuilder text, string[] cells, int[] widths, int width)
    {
        var start = text.Length;
        for (var i = 0; i < cells.Length; i++)
            text.Append(i == cells.Length - 1 ? cells[i] : cells[i].PadRight(widths[i] + 2));
        if (text.Length - start > width)
        {
            text.Length = start + width - 1;
            text.Append('…');
        }

        while (text.Length > start && text[^1] == ' ')
            text.Length--;
        text.Append('\n');
    }
}
