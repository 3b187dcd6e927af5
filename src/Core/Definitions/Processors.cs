using System.Collections.Immutable;
using System.Globalization;

namespace CalmSentry.Core.Definitions;

/// <summary>Sets of processors in the kernel's own list form (cpuset(7)): <c>0-1,4</c>.</summary>
public static class Processors
{
    public const string Allowed = "processors such as 0, 0-3 or 0,2-3, each from 0 to 1023";

    public static ImmutableArray<int>? Read(string text)
    {
        var set = new SortedSet<int>();
        foreach (var part in text.Split(','))
        {
            var ends = part.Split('-', 2, StringSplitOptions.TrimEntries);
            if (!TryNumber(ends[0], out var first) || !TryNumber(ends[^1], out var last) || last < first)
                return null;
            set.UnionWith(Enumerable.Range(first, last - first + 1));
        }

        return [.. set];
    }

    public static string Write(IReadOnlyList<int> set)
    {
        var parts = new List<string>();
        for (var i = 0; i < set.Count; )
        {
            var end = i;
            while (end + 1 < set.Count && set[end + 1] == set[end] + 1)
                end++;
            parts.Add(end == i ? Text(set[i]) : $"{Text(set[i])}-{Text(set[end])}");
            i = end + 1;
        }

        return string.Join(',', parts);
    }

    private static string Text(int number) => number.ToString(CultureInfo.InvariantCulture);

    private static bool TryNumber(string text, out int number) =>
        int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out number) && number < 1024;
}
