using System.Collections.Immutable;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Lifecycle;

namespace CalmSentry.Core.Recovery;

public enum Verdict
{
    /// <summary>Stay down: it ended well, or recovery is not wanted.</summary>
    Rest,
    Again,
    Hold,
}

/// <summary>What follows an end that nobody asked for.</summary>
/// <param name="Pause">How long to wait before trying again.</param>
/// <param name="Pauses">Pauses taken in a row, this one included.</param>
/// <param name="BadEnds">The bad ends that count from now on.</param>
public readonly record struct RecoveryDecision(Verdict Verdict, TimeSpan Pause, int Pauses, ImmutableArray<DateTimeOffset> BadEnds)
{
    /// <param name="upFor">How long the run had been up.</param>
    public static RecoveryDecision After(RecoverPart part, Situation before, Outcome outcome, TimeSpan upFor, DateTimeOffset now)
    {
        var bad = !outcome.IsGood;
        var ends = before.BadEnds;
        if (bad)
        {
            ends = [.. ends.Where(at => now - at < part.HoldWithin), now];
            if (ends.Length > 1000) ends = ends[^1000..];
        }

        var pauses = upFor >= part.SteadyAfter ? 0 : before.Pauses;
        if (part.After == RecoverAfter.Never || (part.After == RecoverAfter.Failure && !bad)) return new(Verdict.Rest, default, 0, ends);
        if (bad && part.HoldEnds > 0 && ends.Length >= part.HoldEnds) return new(Verdict.Hold, default, pauses, ends);
        return new(Verdict.Again, PauseOf(part, pauses), pauses + 1, ends);
    }

    /// <summary>first × grow^pauses, at most longest (and never beyond what a time can hold).</summary>
    public static TimeSpan PauseOf(RecoverPart part, int pauses)
    {
        var pause = part.First.TotalMilliseconds * Math.Pow(part.Grow, Math.Min(pauses, 1000));
        var longest = Math.Max(part.Longest.TotalMilliseconds, part.First.TotalMilliseconds);
        return TimeSpan.FromMilliseconds(pause < longest ? pause : longest);
    }
}
