using CalmSentry.Core.Definitions;
using CalmSentry.Core.Rhythms;
using CalmSentry.Core.Text;

namespace CalmSentry.Inspection.Lookout;

/// <summary>How often it is looked for what nobody asked about.</summary>
internal sealed record LookoutSettings
{
    /// <summary>Between two looks for copies, and at the machine's memory.</summary>
    public TimeSpan Every { get; init; } = TimeSpan.FromMinutes(5);

    /// <summary>When the checks of all services are made, by the host's clock.</summary>
    public Rhythm Checks { get; init; } = Read("daily at 04:30");

    public static Shape<LookoutSettings> Keys { get; } =
        new(
            KeyOf<LookoutSettings>.Value(
                "every",
                Forms.LengthFrom(TimeSpan.FromSeconds(1)),
                lookout => lookout.Every,
                (lookout, length) => lookout with { Every = length },
                "How often a second copy of a running program is looked for, and at the machine's memory."
            ) with
            {
                Default = Duration.Write(new LookoutSettings().Every),
            },
            KeyOf<LookoutSettings>.Value(
                "checks",
                RhythmKeys.Words,
                lookout => lookout.Checks.ToString(),
                (lookout, text) => lookout with { Checks = Read(text!) },
                "When all services are checked as 'calm check' does; what is new is in the logbook and the report."
            ) with
            {
                Default = new LookoutSettings().Checks.ToString(),
            }
        );

    private static Rhythm Read(string text) =>
        RhythmWords.TryRead(text, out var rhythm)
            ? rhythm
            : throw new ArgumentException($"'{text}' was read before", nameof(text));
}
