namespace CalmSentry.Core.Definitions;

/// <summary>What somebody probably meant.</summary>
public static class Spelling
{
    /// <summary>The candidate at most two edits away (and under half its length), or null.</summary>
    public static string? Nearest(string word, IEnumerable<string> candidates) =>
        candidates
            .Where(candidate => Math.Abs(candidate.Length - word.Length) <= 2) // however long somebody's word is
            .Select(candidate => (candidate, distance: Distance(word, candidate)))
            .Where(pair => pair.distance <= 2 && pair.distance * 2 < pair.candidate.Length)
            .OrderBy(pair => pair.distance)
            .Select(pair => pair.candidate)
            .FirstOrDefault();

    /// <summary>Levenshtein distance: insertions, deletions and replacements, each counting one.</summary>
    public static int Distance(string a, string b)
    {
        var row = Enumerable.Range(0, b.Length + 1).ToArray();
        for (var i = 1; i <= a.Length; i++)
        {
            var diagonal = row[0];
            row[0] = i;
            for (var j = 1; j <= b.Length; j++)
            {
                var above = row[j];
                row[j] = Math.Min(Math.Min(above, row[j - 1]) + 1, diagonal + (a[i - 1] == b[j - 1] ? 0 : 1));
                diagonal = above;
            }
        }

        return row[b.Length];
    }
}
