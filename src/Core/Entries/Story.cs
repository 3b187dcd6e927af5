using System.Collections.Immutable;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Entries;

/// <summary>An entry of the record: what happened, when, and who asked.</summary>
public sealed record StoryEntry(DateTimeOffset At, Entry Entry, string? By);

/// <summary>A step on the way to where a service stands: one entry, or many alike as one.</summary>
/// <param name="Times">How many rounds it stands for; 1: it is one entry.</param>
public sealed record StoryStep(DateTimeOffset At, DateTimeOffset Until, string Text, string? By, int Times);

/// <summary>
/// What led there, step by step, from the entries of the logbook: from the last word of a person or the machine on.
/// </summary>
public static class Story
{
    /// <summary>Entries that begin a chapter: somebody or something from outside gave the word.</summary>
    private static readonly ImmutableHashSet<EntryKind> Beginnings =
    [
        EntryKinds.Of<WrappedEntry>(),
        EntryKinds.Of<StartAskedEntry>(),
        EntryKinds.Of<StopAskedEntry>(),
        EntryKinds.Of<RestartAskedEntry>(),
        EntryKinds.Of<ReleasedEntry>(),
        EntryKinds.Of<UnwrapAskedEntry>(),
        EntryKinds.Of<BootBeganEntry>(),
        EntryKinds.Of<DrillBeganEntry>(),
        EntryKinds.Of<LostEntry>(),
    ];

    /// <summary>Entries of a round from a launch to a failure, told as one when several come in a row.</summary>
    private static readonly ImmutableHashSet<EntryKind> Rounds =
    [
        EntryKinds.Of<LaunchedEntry>(),
        EntryKinds.Of<ProvenEntry>(),
        EntryKinds.Of<FellEntry>(),
        EntryKinds.Of<MainEndedEntry>(),
        EntryKinds.Of<DetachedEntry>(),
        EntryKinds.Of<HandedOverEntry>(),
        EntryKinds.Of<UnwellEntry>(),
        EntryKinds.Of<NotProvenEntry>(),
        EntryKinds.Of<StepAnsweredEntry>(),
        EntryKinds.Of<StepFailedEntry>(),
        EntryKinds.Of<StepOverEntry>(),
        EntryKinds.Of<RetriedEntry>(),
        EntryKinds.Of<HeldEntry>(),
    ];

    /// <summary>So many failures in a row, or more, are one step.</summary>
    private const int Many = 3;

    private const int Most = 40;

    /// <summary>A launch is noted a moment before the word that led to it.</summary>
    private static readonly TimeSpan Moment = TimeSpan.FromMilliseconds(50);

    /// <param name="entries">Of one service, oldest first.</param>
    public static IReadOnlyList<StoryStep> Of(IReadOnlyList<StoryEntry> entries)
    {
        var chapter = Chapter(entries);
        var steps = new List<StoryStep>();
        for (var i = 0; i < chapter.Count; )
        {
            var end = RoundsFrom(chapter, i);
            var falls = chapter.Skip(i).Take(end - i).Where(one => one.Entry is FellEntry).ToList();
            if (falls.Count < Many)
            {
                steps.Add(new(chapter[i].At, chapter[i].At, chapter[i].Entry.Text, chapter[i].By, 1));
                i++;
                continue;
            }

            var round = chapter.Skip(i).Take(end - i).ToList();
            steps.Add(new(chapter[i].At, falls[^1].At, Folded(round, falls), null, falls.Count));
            i += round.LastIndexOf(falls[^1]) + 1;
            // That it is back on hold after each of them is said once, by where it stands.
            while (i < chapter.Count && chapter[i].Entry is HeldEntry { Again: true })
                i++;
        }

        if (steps.Count <= Most)
            return steps;
        return
        [
            .. steps.Take(5),
            new(steps[5].At, steps[^(Most - 5)].At, $"… {steps.Count - Most} more entries: calm logbook …", null, 1),
            .. steps.TakeLast(Most - 6),
        ];
    }

    private static List<StoryEntry> Chapter(IReadOnlyList<StoryEntry> entries)
    {
        var from = entries.Count - 1;
        while (from >= 0 && !Beginnings.Contains(entries[from].Entry.Kind))
            from--;
        while (from > 0 && entries[from - 1].Entry is LaunchedEntry && entries[from].At - entries[from - 1].At < Moment)
            from--;
        return [.. entries.Skip(Math.Max(0, from))];
    }

    private static int RoundsFrom(List<StoryEntry> chapter, int from)
    {
        var end = from;
        while (end < chapter.Count && Rounds.Contains(chapter[end].Entry.Kind))
            end++;
        return end;
    }

    /// <summary>Many failures as one sentence, by how they went.</summary>
    private static string Folded(List<StoryEntry> round, List<StoryEntry> falls)
    {
        var ways = falls
            .Select(fall => fall.Entry.Fields.Outcome)
            .OfType<Outcome>()
            .GroupBy(outcome => OutcomeWords.Of(outcome with { Detail = null }))
            .OrderByDescending(way => way.Count())
            .Select(way => way.Count() == falls.Count ? $"it {way.Key} each time" : $"{way.Count()} times it {way.Key}")
            .ToList();
        var retries = round.Count(one => one.Entry is RetriedEntry);
        var again = falls.Count(fall => fall.Entry.Fields.Next == EntryNext.Restart);
        var what =
            retries * 2 > falls.Count
                ? $"Tried again {falls.Count} times while on hold, in vain"
                : $"Failed {falls.Count} times"
                    + (
                        again == 0 ? ""
                        : again == falls.Count ? ", and was restarted each time"
                        : $", and was restarted {(again == 1 ? "once" : $"{again} times")}"
                    );
        return $"{what}{(ways.Count == 0 ? "" : $": {string.Join(", ", ways.Take(3))}")}"
            + $"{(ways.Count > 3 ? ", and in other ways" : "")}. The last time: {falls[^1].Entry.Text}";
    }
}
