namespace CalmSentry.Core.Text;

/// <summary>Names as people order them: numbers in them count by their value, so that till-2 stands before till-10.</summary>
public sealed class NaturalOrder : IComparer<string>
{
    public static NaturalOrder Names { get; } = new();

    public int Compare(string? x, string? y)
    {
        var (a, b) = (x ?? "", y ?? "");
        for (int i = 0, j = 0; i < a.Length && j < b.Length; )
        {
            var first = Part(a, i);
            var second = Part(b, j);
            var order =
                char.IsAsciiDigit(first[0]) && char.IsAsciiDigit(second[0])
                    ? ByValue(first, second)
                    : first.SequenceCompareTo(second);
            if (order != 0)
                return order;
            i += first.Length;
            j += second.Length;
        }

        // Of 7 and 07, which are worth the same, the text decides, so that no two names are equal.
        return a.Length != b.Length ? a.Length.CompareTo(b.Length) : string.CompareOrdinal(a, b);
    }

    /// <summary>The digits, or the one other character, that stand there.</summary>
    private static ReadOnlySpan<char> Part(string name, int at)
    {
        var end = at + 1;
        while (char.IsAsciiDigit(name[at]) && end < name.Length && char.IsAsciiDigit(name[end]))
            end++;
        return name.AsSpan(at, end - at);
    }

    private static int ByValue(ReadOnlySpan<char> first, ReadOnlySpan<char> second)
    {
        first = first.TrimStart('0');
        second = second.TrimStart('0');
        return first.Length != second.Length ? first.Length.CompareTo(second.Length) : first.SequenceCompareTo(second);
    }
}
