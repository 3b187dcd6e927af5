using System.Collections.Immutable;

namespace CalmSentry.Core.Wording;

/// <summary>An entry of the record: what was seen or done, and who asked.</summary>
public sealed record StoryEntry(DateTimeOffset At, string What, string Text, string? By);

/// <summary>A step on the way to where a service stands: one entry, or many alike told as one.</summary>
/// <param name="Times">How many rounds it stands for; 1: it is one entry.</param>
public sealed record StoryStep(DateTimeOffset At, DateTimeOffset Until, string Text, string? By, int Times);

/// <summary>
/// What led there, step by step, from the entries of the logbook: from the last word of a person or the machine on.
/// </summary>
public static class Story
{
    /// <summary>Entries that begin a chapter: somebody or something from outside gave the word.</summary>
    private static readonly ImmutableHashSet<string> Beginnings =
    [
        "wrapped",
        "start-asked",
        "stop-asked",
        "restart-asked",
        "released",
        "unwrap-asked",
        "boot-began",
        "drill-began",
        "lost",
    ];

    /// <summary>Entries of a round from a launch to a fall, told as one when several come in a row.</summary>
    private static readonly ImmutableHashSet<string> Rounds =
    [
        "launched",
        "proven",
        "fell",
        "main-ended",
        "detached",
        "unwell",
        "not-proven",
        "wind-down",
        "retried",
        "held",
    ];

    private const int Most = 40;

    /// <param name="entries">Of one service, oldest first.</param>
    /// <param name="began">Whether what the chapter began with is among them.</param>
    public static IReadOnlyList<StoryStep> Of(IReadOnlyList<StoryEntry> entries, out bool began)
    {
        var from = entries.Count - 1;
        while (from >= 0 && !Beginnings.Contains(entries[from].What))
            from--;
        began = from >= 0;
        // A launch is noted a moment before the word that led to it.
        while (
            from > 0
            && entries[from].At - entries[from - 1].At < TimeSpan.FromMilliseconds(50)
            && !Beginnings.Contains(entries[from - 1].What)
            && entries[from - 1].What is "launched"
        )
            from--;
        var chapter = entries.Skip(Math.Max(0, from)).ToList();
        var steps = new List<StoryStep>();
        for (var i = 0; i < chapter.Count; )
        {
            var end = RoundsFrom(chapter, i, out var falls);
            if (falls < 3)
            {
                steps.Add(new(chapter[i].At, chapter[i].At, chapter[i].Text, chapter[i].By, 1));
                i++;
                continue;
            }

            var fells = chapter.Skip(i).Take(end - i).Where(entry => entry.What == "fell").ToList();
            var ways = fells
                .GroupBy(entry => Way(entry.Text))
                .OrderByDescending(group => group.Count())
                .Select(group => $"{group.Count()} times it {group.Key}")
                .ToList();
            steps.Add(
                new(
                    chapter[i].At,
                    fells[^1].At,
                    $"It fell {falls} times and was begun again: "
                        + $"{string.Join(", ", ways.Take(3))}{(ways.Count > 3 ? ", and in other ways" : "")}. "
                        + $"The last time: {fells[^1].Text}",
                    null,
                    falls
                )
            );
            i = chapter.IndexOf(fells[^1]) + 1;
        }

        return steps.Count > Most
            ?
            [
                .. steps.Take(5),
                new(
                    steps[5].At,
                    steps[^(Most - 5)].At,
                    $"… {steps.Count - Most} more entries: calm logbook …",
                    null,
                    1
                ),
                .. steps.TakeLast(Most - 6),
            ]
            : steps;
    }

    private static int RoundsFrom(List<StoryEntry> chapter, int i, out int falls)
    {
        falls = 0;
        var end = i;
        while (end < chapter.Count && Rounds.Contains(chapter[end].What))
        {
            if (chapter[end].What == "fell")
                falls++;
            end++;
        }

        return end;
    }

    /// <summary>How it fell, without run number and what follows: "ended by itself with exit code 3".</summary>
    private static string Way(string text)
    {
        var words = text.Split(' ', 3);
        var way = words.Length == 3 ? words[2] : text;
        var cut = way.IndexOfAny([';', ',', ':']);
        return (cut > 0 ? way[..cut] : way).TrimEnd('.');
    }
}
