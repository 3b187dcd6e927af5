using System.Collections.Immutable;
using System.Globalization;
using CalmSentry.Core.Definitions;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Runs;
using CalmSentry.Core.Text;

namespace CalmSentry.Core.Lifecycle;

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
/// <param name="Bad">This end is one of them.</param>
/// <param name="Why">What the definition says of this very code, as a clause; null: nothing.</param>
/// <param name="StopsDependents">What needs it is to be stopped.</param>
public readonly record struct RecoveryDecision(
    Verdict Verdict,
    TimeSpan Pause,
    int Pauses,
    ImmutableArray<DateTimeOffset> BadEnds,
    bool Bad,
    string? Why = null,
    bool StopsDependents = false
)
{
    /// <param name="failedStart">It ended before it was proven, which is never good.</param>
    /// <param name="upFor">How long the run had been up.</param>
    public static RecoveryDecision After(
        Definition definition,
        Situation before,
        Outcome outcome,
        bool failedStart,
        TimeSpan upFor,
        DateTimeOffset now
    )
    {
        var part = definition.Recover;
        var code = CodeOf(outcome);
        CodeFollow? then = code is not null && part.Codes.TryGetValue(code, out var said) ? said : null;
        var why = then is { } word
            ? $"recover.codes says {RecoverKeys.Code.Write(word)} of "
                + $"{(outcome.Kind == OutcomeKind.Exited ? "exit code " : "")}{code}"
            : null;
        var bad = then is not (CodeFollow.Done or CodeFollow.AgainAtOnce) && (failedStart || !outcome.IsGood);
        var ends = before.BadEnds;
        if (bad)
        {
            ends = [.. ends.Where(at => now - at < part.HoldWithin), now];
            if (ends.Length > 1000)
                ends = ends[^1000..];
        }

        var pauses = upFor >= part.SteadyAfter ? 0 : before.Pauses;
        switch (then)
        {
            case CodeFollow.Done:
                return new(Verdict.Rest, default, 0, ends, bad, why);
            case CodeFollow.StopDependents:
                return new(Verdict.Rest, default, 0, ends, bad, why, StopsDependents: true);
            case CodeFollow.Hold:
                return new(Verdict.Hold, default, pauses, ends, bad, why);
            case CodeFollow.AgainAtOnce when upFor >= part.First:
                return new(Verdict.Again, TimeSpan.Zero, 0, ends, bad, why);
        }

        var again =
            then is CodeFollow.Again or CodeFollow.AgainAtOnce
            || part.After == RecoverAfter.AnyEnd
            || (part.After == RecoverAfter.Failure && bad);
        if (!again)
            return new(Verdict.Rest, default, 0, ends, bad, why);
        if (bad && part.HoldEnds > 0 && ends.Length >= part.HoldEnds)
            return new(Verdict.Hold, default, pauses, ends, bad);
        return new(
            Verdict.Again,
            Whole(PauseOf(part, pauses) * (1 + SpreadOf(definition, before.LastRun))),
            pauses + 1,
            ends,
            bad,
            why
        );
    }

    /// <summary>In whole milliseconds, which every record of it keeps.</summary>
    private static TimeSpan Whole(TimeSpan pause) => TimeSpan.FromMilliseconds(Math.Ceiling(pause.TotalMilliseconds));

    /// <summary>first × grow^pauses, at most longest (and never beyond what a time can hold).</summary>
    public static TimeSpan PauseOf(RecoverPart part, int pauses)
    {
        var pause = part.First.TotalMilliseconds * Math.Pow(part.Grow, Math.Min(pauses, 1000));
        var longest = Math.Max(part.Longest.TotalMilliseconds, part.First.TotalMilliseconds);
        return TimeSpan.FromMilliseconds(pause < longest ? pause : longest);
    }

    /// <summary>
    /// How an end is named in <c>recover.codes</c>: the exit code, or the signal's name; null for other ends.
    /// </summary>
    public static string? CodeOf(Outcome outcome) =>
        outcome.Kind switch
        {
            OutcomeKind.Exited => outcome.Code.ToString(CultureInfo.InvariantCulture),
            OutcomeKind.Signalled => SignalNames.Ends.FirstOrDefault(pair => pair.Value == outcome.Code).Key,
            _ => null,
        };

    /// <summary>A part from 0 to the spread set.</summary>
    private static double SpreadOf(Definition definition, RunNumber run) =>
        Scatter.ShareOf(definition.Name, run.Value) * definition.Recover.Spread / 100;
}
