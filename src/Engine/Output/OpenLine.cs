using CalmSentry.Contract.Keeper;
using CalmSentry.Contract.Terminals;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Engine.Output;

/// <summary>What a program has written after its last line end.</summary>
/// <param name="Text">Without terminal codes; empty: it draws its whole screen.</param>
/// <param name="Place">Where it begins in all of the service's output.</param>
/// <param name="Began">When its first byte came, by the keeper's clock; null: that is not known.</param>
internal readonly record struct OpenLine(string Text, long Place, DateTimeOffset? Began)
{
    /// <summary>Farther back no line end is looked for: what is longer asks nobody.</summary>
    private const int FarthestBack = 16 << 10;

    /// <param name="began">Where the output of the run begins.</param>
    /// <returns>Null: its last line has ended, or it has written nothing.</returns>
    public static OpenLine? At(string folder, string encoding, long began)
    {
        var (last, end) = (Segments.Backwards(folder).First(), Segments.End(folder));
        var from = Math.Max(Math.Max(began, last.Start), end - FarthestBack);
        using var reader = new SegmentReader(folder, from);
        var bytes = new byte[Math.Max(0, end - from)];
        var filled = 0;
        while (filled < bytes.Length && reader.Read(bytes.AsSpan(filled)) is > 0 and var got)
            filled += got;
        var open = bytes.AsSpan(0, filled);
        var ended = open.LastIndexOf((byte)'\n');
        var begins = ended >= 0 || from == began || (from == last.Start && !last.Head.IsOpen);
        var at = from + ended + 1;
        open = open[(ended + 1)..];
        if (begins && last.Head.Stamped)
            open = open[Math.Min(OutputForm.StampLength, open.Length)..];
        if (open.IsEmpty)
            return null;
        using var marks = new MarkReader(last, at - last.Start);
        return new(
            Plain(open, encoding),
            at,
            marks.Next() is { } mark ? DateTimeOffset.FromUnixTimeMilliseconds(mark.AtMs) : null
        );
    }

    private static string Plain(ReadOnlySpan<byte> bytes, string encoding)
    {
        var draws = false;
        var filter = new CodeFilter(code =>
        {
            draws |= CodeFilter.Draws(code);
            return false;
        });
        var text = OutputLines.Of(encoding).GetString(filter.Through(bytes).Span).TrimEnd('\r');
        if (draws)
            return "";
        // What is written over a line from its beginning is what stands there.
        text = string.Concat(text[(text.LastIndexOf('\r') + 1)..].Where(c => !char.IsControl(c)));
        return text.Length > Question.Longest ? text[^Question.Longest..] : text;
    }
}
