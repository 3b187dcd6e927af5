using System.Text.RegularExpressions;
using CalmSentry.Contract.Keeper;

namespace CalmSentry.Engine.Output;

/// <summary>Which lines are wanted.</summary>
/// <param name="From">The place from which on; 0: from the first that is kept.</param>
/// <param name="To">The place up to which; null: all there is, and what comes.</param>
/// <param name="Last">So many at most, the latest; null: all.</param>
internal sealed record OutputQuery(string Folder, string Encoding, long From, long? To, int? Last)
{
    /// <summary>So many at most, the earliest; null: all.</summary>
    public int? First { get; init; }

    public bool ErrorsOnly { get; init; }

    public string? Find { get; init; }

    public Regex? Match { get; init; }

    /// <summary>So many lines before and after each that fits.</summary>
    public int Around { get; init; }

    /// <summary>Every line fits.</summary>
    public bool IsOpen => !ErrorsOnly && Find is null && Match is null;

    public bool Fits(OutputSource source, ReadOnlySpan<char> text) =>
        (!ErrorsOnly || source == OutputSource.Error)
        && (Find is null || text.Contains(Find, StringComparison.Ordinal))
        && (Match is null || Match.IsMatch(text));
}

/// <param name="Fits">False: it stands around one that fits.</param>
/// <param name="Apart">Lines between it and the one before it were left out.</param>
internal sealed record FoundLine(OutputLine Line, bool Fits, bool Apart);

/// <summary>Finds lines in what is kept of a service's output, also in packed files.</summary>
internal static class OutputSearch
{
    /// <summary>Segments that are searched for a text at the same time.</summary>
    private static readonly int AtOnce = Math.Clamp(Environment.ProcessorCount, 1, 4);

    /// <summary>What fits of all there is.</summary>
    public static IEnumerable<FoundLine> Of(OutputQuery query, CancellationToken cancellation) =>
        query.First is { } first ? Earliest(All(query, cancellation), first) : All(query, cancellation);

    private static IEnumerable<FoundLine> Earliest(IEnumerable<FoundLine> lines, int first)
    {
        foreach (var line in lines)
        {
            if (line.Fits && --first < 0)
                yield break;
            yield return line;
        }
    }

    private static IEnumerable<FoundLine> All(OutputQuery query, CancellationToken cancellation)
    {
        if (query.Last is not { } last)
            return Forward(query, query.From, cancellation);
        if (
            query.IsOpen
            && !OutputLines.IsWide(query.Encoding)
            && (query.To is not { } to || to >= Segments.End(query.Folder))
            && OutputFile.StartOfLast(query.Folder, last) is (var start, true)
        )
            return Latest(query, Math.Max(query.From, start), last, cancellation).Lines;
        return FromTheEnd(query, last, cancellation);
    }

    /// <summary>The place where the latest so many lines begin; the end of all where there is none.</summary>
    public static long StartOfLast(string folder, string encoding, int last, CancellationToken cancellation)
    {
        if (!OutputLines.IsWide(encoding) && OutputFile.StartOfLast(folder, last) is (var start, true))
            return start;
        var query = new OutputQuery(folder, encoding, 0, Segments.End(folder), last);
        return FromTheEnd(query, last, cancellation).FirstOrDefault()?.Line.Place ?? query.To!.Value;
    }

    /// <summary>
    /// The latest are looked for in the last segment, then in the last two, four and so on: each time forwards, for a packed
    /// file can be read in no other way.
    /// </summary>
    private static IEnumerable<FoundLine> FromTheEnd(OutputQuery query, int last, CancellationToken cancellation)
    {
        var all = Segments.Of(query.Folder).Where(one => query.To is not { } to || one.Start < to).ToList();
        for (var back = 1; ; back *= 2)
        {
            var first = Math.Max(0, all.Count - back);
            while (first > 0 && all[first].Head.IsOpen)
                first--;
            var start = all.Count == 0 || first == 0 ? query.From : Math.Max(query.From, all[first].Start);
            var (lines, fitting, isCut) = Latest(query, start, last, cancellation);
            // What stands before the first of them may lie in the segment before, unless another one that fits does not.
            if (first == 0 || start == query.From || isCut || (query.Around == 0 && fitting >= last))
                return lines;
        }
    }

    /// <summary>Text that is kept while it is looked for the latest lines; of more than that it is read once more.</summary>
    private const long MostKept = 4L << 20;

    /// <summary>The last so many that fit, with what stands around them.</summary>
    /// <returns>They; how many fit; and whether others before them did.</returns>
    private static (IEnumerable<FoundLine> Lines, int Fitting, bool IsCut) Latest(
        OutputQuery query,
        long start,
        int last,
        CancellationToken cancellation
    )
    {
        var kept = new Queue<(FoundLine? Line, long Place, bool Fits, bool Apart)>();
        var (fitting, bytes, isMuch, isCut) = (0, 0L, false, false);
        foreach (var found in Forward(query, start, cancellation))
        {
            bytes += Cost(found.Line);
            if (!isMuch && bytes > MostKept)
            {
                // Only where they lie: lines may be as long as memory.
                isMuch = true;
                kept = new(kept.Select(one => ((FoundLine?)null, one.Place, one.Fits, one.Apart)));
            }

            kept.Enqueue((isMuch ? null : found, found.Line.Place, found.Fits, found.Apart));
            fitting += found.Fits ? 1 : 0;
            while (fitting > last)
            {
                // With the line that is too much goes what stood before it.
                var gone = kept.Dequeue();
                isCut = true;
                fitting -= gone.Fits ? 1 : 0;
                bytes -= gone.Line is { } line ? Cost(line.Line) : 0;
            }
        }

        if (isCut && fitting == 0)
            return ([], 0, true);
        // What stood behind the one that went, and is not before the next, goes as well.
        for (var before = isCut ? kept.TakeWhile(one => !one.Fits).ToList() : []; before.Count > 0; before.RemoveAt(0))
            if (before.Count > query.Around || before.Skip(1).Any(one => one.Apart))
                kept.Dequeue();
            else
                break;
        if (kept.Count == 0)
            return ([], fitting, isCut);
        var (begins, count) = (kept.Peek().Place, kept.Count);
        var lines = isMuch
            ? Forward(query, start, cancellation).SkipWhile(one => one.Line.Place != begins).Take(count)
            : kept.Select(one => one.Line!).ToList();
        return (lines.Select((one, i) => i == 0 ? one with { Apart = false } : one), fitting, isCut);
    }

    private static long Cost(OutputLine line) => ((long)line.Text.Length * sizeof(char)) + 128;

    private static IEnumerable<FoundLine> Forward(OutputQuery query, long from, CancellationToken cancellation)
    {
        var around = new Surroundings(query);
        foreach (var (start, end) in Stretches(query, from, cancellation))
        {
            using var lines = new OutputLines(
                query.Folder,
                start,
                query.Encoding,
                end,
                query is { IsOpen: false, Around: 0 } ? query.Fits : null
            );
            around.Leap();
            while (lines.Next() is { } line)
            {
                cancellation.ThrowIfCancellationRequested();
                foreach (var found in around.Look(line))
                    yield return found;
            }

            foreach (var line in lines.Rest())
            foreach (var found in around.Look(line))
                yield return found;
        }
    }

    /// <summary>
    /// Parts of the output that are to be read line by line: where a text is looked for, only segments that may have it. How
    /// far lines around it reach, only reading tells.
    /// </summary>
    private static IEnumerable<(long Start, long? End)> Stretches(
        OutputQuery query,
        long from,
        CancellationToken cancellation
    )
    {
        if (query is not { Find: { Length: > 0 } text, Around: 0 })
        {
            yield return (from, query.To);
            yield break;
        }

        var all = Segments
            .Of(query.Folder)
            .Where(one => one.Path is not null && (query.To is not { } to || one.Start < to))
            .ToList();
        var first = Math.Max(0, all.FindLastIndex(one => one.Start <= from));
        all = all[first..];
        var wanted = OutputLines.Of(query.Encoding).GetBytes(text);
        var looks = new Task<bool>?[all.Count];
        long? open = null;
        for (var i = 0; i < all.Count; i++)
        {
            for (var ahead = i; ahead < all.Count && ahead <= i + AtOnce; ahead++)
                looks[ahead] ??= Look(all[ahead]);
            // A line of the next one may begin in this.
            var isWanted = Has(i) || (i + 1 < all.Count && all[i + 1].Head.IsOpen);
            if (isWanted)
                open ??= Math.Max(from, all[i].Start);
            else if (open is { } start)
            {
                yield return (start, all[i].Start);
                open = null;
            }
        }

        if (open is { } rest)
            yield return (rest, query.To);

        bool Has(int at) => looks[at]!.GetAwaiter().GetResult();

        Task<bool> Look(Segment segment) => Task.Run(() => MayHave(segment, wanted, cancellation), cancellation);
    }

    /// <summary>
    /// Whether a text is anywhere in the bytes of a segment, or may be in a line that another stream's bytes part.
    /// </summary>
    private static bool MayHave(Segment segment, byte[] text, CancellationToken cancellation)
    {
        if (segment.Head.IsOpen || segment.Head.Stamped)
            return true;
        using var bytes = segment.Open(0);
        if (bytes is null)
            return false;
        using var marks = new MarkReader(segment, 0);
        var mark = marks.Next();
        var source = OutputSource.None;
        var block = new byte[(1 << 18) + text.Length];
        var (kept, offset, last) = (0, 0L, (byte)'\n');
        while (bytes.ReadAtLeast(block.AsSpan(kept), block.Length - kept, throwOnEndOfStream: false) is > 0 and var got)
        {
            cancellation.ThrowIfCancellationRequested();
            if (block.AsSpan(0, kept + got).IndexOf(text) >= 0)
                return true;
            for (; mark is { } one && one.Offset < offset + got; mark = marks.Next())
            {
                if (one.Source == source || one.Offset < offset)
                {
                    source = one.Source;
                    continue;
                }

                var before = one.Offset == offset ? last : block[kept + (int)(one.Offset - offset) - 1];
                if (source != OutputSource.None && one.Source != OutputSource.Begins && before != '\n')
                    return true;
                source = one.Source;
            }

            last = block[kept + got - 1];
            offset += got;
            var keep = Math.Min(text.Length - 1, kept + got);
            block.AsSpan(kept + got - keep, keep).CopyTo(block);
            kept = keep;
        }

        return false;
    }

    /// <summary>Lines that fit, and so many before and after each.</summary>
    public sealed class Surroundings(OutputQuery query)
    {
        /// <summary>Text that is kept of lines that may stand before one that fits.</summary>
        private const long MostAround = 16L << 20;

        private readonly Queue<OutputLine> before = new();
        private int after;
        private long bytes;
        private bool apart,
            any;

        /// <summary>What follows does not follow on what was looked at last.</summary>
        public void Leap()
        {
            before.Clear();
            (after, apart, bytes) = (0, any, 0);
        }

        public IEnumerable<FoundLine> Look(OutputLine line)
        {
            if (query.Fits(line.Source, line.Text))
            {
                while (before.TryDequeue(out var earlier))
                    yield return Found(earlier, fits: false);
                bytes = 0;
                yield return Found(line, fits: true);
                after = query.Around;
            }
            else if (after > 0)
            {
                after--;
                yield return Found(line, fits: false);
            }
            else
            {
                before.Enqueue(line);
                bytes += Cost(line);
                while (before.Count > query.Around || bytes > MostAround)
                {
                    bytes -= Cost(before.Dequeue());
                    apart = any;
                }
            }
        }

        private FoundLine Found(OutputLine line, bool fits)
        {
            var found = new FoundLine(line, fits, apart);
            (apart, any) = (false, true);
            return found;
        }
    }

    /// <summary>The place of the first byte that came at or after a time; the end of all when none did.</summary>
    public static long PlaceAt(string folder, DateTimeOffset time)
    {
        var at = time.ToUnixTimeMilliseconds();
        var all = new Stack<Segment>();
        foreach (var segment in Segments.Backwards(folder))
        {
            all.Push(segment);
            if (FirstMark(segment) is { } begins && begins.AtMs < at)
                break;
        }

        foreach (var segment in all)
        {
            using var marks = new MarkReader(segment, 0);
            while (marks.Next() is { } mark)
                if (mark.AtMs >= at)
                    return segment.Start + mark.Offset;
        }

        return Segments.End(folder);

        static OutputMark? FirstMark(Segment segment)
        {
            using var marks = new MarkReader(segment, 0);
            return marks.Next();
        }
    }
}
