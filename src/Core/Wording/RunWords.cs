using CalmSentry.Core.Lifecycle;
using CalmSentry.Core.Runs;

namespace CalmSentry.Core.Wording;

/// <summary>Who or what began and ended a run.</summary>
public static class RunWords
{
    /// <summary>What did it when nobody asked.</summary>
    public const string Sentry = "Calm Sentry";

    /// <summary>Of the live run.</summary>
    public static string BegunBy(Situation now) =>
        now.Run?.Cause switch
        {
            Cause.Asked => now.Asked?.By.ToString() ?? "somebody",
            Cause.Boot => "the boot",
            Cause.Drill => "a drill",
            Cause.Rhythm => "its rhythm",
            _ => Sentry,
        };

    /// <param name="after">Where it stands after the end.</param>
    public static string EndedBy(LastEnd end, Situation after) =>
        end switch
        {
            { AsAsked: true } => after.Asked?.By.ToString() ?? "somebody",
            { Outcome.Kind: OutcomeKind.NotProven or OutcomeKind.Unwell or OutcomeKind.TooLong } => Sentry,
            { Outcome.Kind: OutcomeKind.NeverLaunched } => "its launch",
            { Outcome.Kind: OutcomeKind.MachineLost } => "the machine",
            { Outcome.Kind: OutcomeKind.KeeperLost } => "the loss of its keeper",
            { Outcome: { Kind: OutcomeKind.Signalled, Detail: not null } } => "the kernel, for its memory",
            { Outcome: { Kind: OutcomeKind.Signalled, Code: 1 or 2 or 3 or 9 or 15 } } => "a signal from elsewhere",
            _ => "itself",
        };
}
