using System.Diagnostics.CodeAnalysis;
using CalmSentry.Contract.Keeper;

namespace CalmSentry.Engine.Output;

/// <summary>
/// Whole lines that a program adds to its output, each stream's for itself. However fast and however oddly it prints, one look reads
/// so much and no more: what is left is read at the next. Of a line longer than may be, the beginning counts.
/// </summary>
/// <param name="fits">Lines that are wanted; null: all. Of the others nothing is made, however many they are.</param>
[SuppressMessage("Design", "CA1001", Justification = "Between two looks its reader holds nothing.")]
internal sealed class NewLines(string folder, long from, string encoding, OutputLines.Wanted? fits = null)
{
    /// <summary>Bytes of one look, and characters of one line.</summary>
    private const int MostBytes = 1 << 20,
        LongestLine = 64 << 10;

    private readonly OutputLines lines = new(
        folder,
        from,
        encoding,
        fits: (source, text) =>
            source != OutputSource.Sentry && fits?.Invoke(source, text[..Math.Min(text.Length, LongestLine)]) != false
    );

    public List<string> Next()
    {
        var found = new List<string>();
        lines.To = lines.At + MostBytes;
        while (lines.Next() is { } line)
            found.Add(Cut(line));
        lines.LetGo(); // nothing is held open from one look to the next: many services may be waited for
        return found;
    }

    /// <summary>What has begun and not ended.</summary>
    public IEnumerable<string> Rest() => lines.Rest().Select(Cut);

    private static string Cut(OutputLine line) => line.Text.Length > LongestLine ? line.Text[..LongestLine] : line.Text;
}
