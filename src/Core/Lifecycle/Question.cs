using CalmSentry.Core.Definitions;
using CalmSentry.Core.Entries;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Lifecycle;

/// <summary>What a program probably asks somebody.</summary>
/// <param name="Text">At its terminal: what it has written after its last line end, without terminal codes; empty: it draws its whole
/// screen. In a window: its title.</param>
/// <param name="Place">At its terminal: where that begins in all of the service's output. In a window: which it is on its display.</param>
/// <param name="Since">Since when it asks, or, where it is <see cref="Answered"/>, when it was given its answer.</param>
public sealed record Question(string Text, long Place, DateTimeOffset Since)
{
    /// <summary>Of a longer one, its end.</summary>
    public const int Longest = 200;

    /// <summary>It was given its answer, and nobody was told of it.</summary>
    public bool Answered { get; init; }

    /// <summary>What was told of it, as sentences; null: nothing was.</summary>
    public string? Told { get; init; }

    /// <summary>The same place, and what was there, with what was typed since; a window may change its title.</summary>
    public bool IsSameAs(QuestionSeen seen) =>
        seen.Place == Place
        && (
            seen.At == AskedAt.Window
                ? seen.Text is not null
                : seen.Text?.StartsWith(Text, StringComparison.Ordinal) == true
        );
}

/// <summary>That a known question was given its answer.</summary>
public sealed record AnswerGiven(string Question, RunNumber Run, DateTimeOffset At)
{
    /// <summary>Whether it counts against the most there may be now.</summary>
    public bool Counts(KnownQuestion known, RunNumber run, DateTimeOffset now) =>
        Question == known.Question
        && known.Each switch
        {
            AnswerSpan.Run => Run == run,
            AnswerSpan.Hour => now - At < TimeSpan.FromHours(1),
            _ => now - At < Day,
        };

    /// <summary>Longer than that none counts, but within the run.</summary>
    public static readonly TimeSpan Day = TimeSpan.FromDays(1);
}
